//! The CA's books: accounts, orders, authorizations, with the states of RFC 8555 section 7.1.6.

use std::collections::{HashMap, HashSet};

use super::jws::Jwk;

#[derive(Default)]
pub(super) struct Books {
    pub nonces: HashSet<String>,
    /// Requests so far, and how many of them were answered that it is not ready yet.
    pub requests: usize,
    pub not_ready: usize,
    pub accounts: Vec<Jwk>,
    pub orders: Vec<Order>,
    pub authorizations: Vec<Authorization>,
    /// Issued chains by number.
    pub certificates: HashMap<usize, String>,
    pub revoked: HashSet<usize>,
}

pub(super) struct Order {
    pub account: usize,
    pub names: Vec<String>,
    pub authorizations: Vec<usize>,
    pub certificate: Option<usize>,
}

pub(super) struct Authorization {
    pub account: usize,
    /// Without the `*.` of a wildcard.
    pub name: String,
    pub wildcard: bool,
    pub token: String,
    pub status: Status,
    pub error: Option<String>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Status {
    Pending,
    Processing,
    Valid,
    Invalid,
}

impl Status {
    pub fn word(self) -> &'static str {
        match self {
            Status::Pending => "pending",
            Status::Processing => "processing",
            Status::Valid => "valid",
            Status::Invalid => "invalid",
        }
    }
}

impl Books {
    pub fn order_status(&self, order: &Order) -> &'static str {
        let has = |status| order.authorizations.iter().any(|&number| self.authorizations[number].status == status);
        if order.certificate.is_some() {
            "valid"
        } else if has(Status::Invalid) {
            "invalid"
        } else if has(Status::Pending) || has(Status::Processing) {
            "pending"
        } else {
            "ready"
        }
    }
}

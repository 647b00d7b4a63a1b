//! The CA's books: accounts, orders, authorizations, with the states of RFC 8555 section 7.1.6.

use std::collections::{HashMap, HashSet};

use serde_json::Value;

use super::jws::Jwk;

#[derive(Default)]
pub(super) struct Books {
    pub nonces: HashSet<String>,
    /// Requests so far, and how many of them were answered that it is not ready yet.
    pub requests: usize,
    pub not_ready: usize,
    /// From this many requests on, it is out of order.
    pub fails_from: Option<usize>,
    /// The request whose answer gets lost on its way.
    pub loses: Option<usize>,
    /// Requests are too many until somebody says otherwise: what `Retry-After` says then.
    pub too_many: Option<String>,
    pub without_profiles: bool,
    /// The OCSP responder that certificates name from now on.
    pub responder: Option<String>,
    pub accounts: Vec<Account>,
    pub orders: Vec<Order>,
    pub authorizations: Vec<Authorization>,
    /// Issued chains by number.
    pub certificates: HashMap<usize, String>,
    pub revoked: HashSet<usize>,
}

pub(super) struct Account {
    pub key: Jwk,
    pub contact: Value,
    pub closed: bool,
}

pub(super) struct Order {
    pub account: usize,
    pub names: Vec<String>,
    pub authorizations: Vec<usize>,
    pub certificate: Option<usize>,
    /// How long the certificate is to live.
    pub days: u64,
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
    pub fn is_failing(&self) -> bool {
        self.fails_from.is_some_and(|from| self.requests >= from)
    }

    /// The account that this key has, unless it is closed.
    pub fn account_of(&self, key: &Jwk) -> Option<usize> {
        self.accounts.iter().position(|account| account.key == *key && !account.closed)
    }

    pub fn key_of(&self, number: usize) -> Option<&Jwk> {
        self.accounts.get(number).filter(|account| !account.closed).map(|account| &account.key)
    }

    pub fn open_account(&mut self, key: Jwk, contact: Value) -> usize {
        self.accounts.push(Account { key, contact, closed: false });
        self.accounts.len() - 1
    }

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

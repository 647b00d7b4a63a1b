//! After an order whose answer was lost: it may have been placed. The account says where its orders are listed (RFC 8555
//! section 7.1.2.1), if the CA keeps such a list; one for the same names that waits is gone on with.

use std::collections::BTreeSet;

use serde::{Deserialize, Serialize};

use super::{Authorizations, Finalize, Known, Next, OrderUrls, Response, State, Want, post_as_get};
use crate::acme::identifier::Identifier;
use crate::acme::message::{AccountObject, Order, OrderList};

/// The newest orders of a long list; what was placed just now is among them, at one end or the other.
const MOST_READ: usize = 8;
/// Some CAs give a list in pages of three.
const MOST_PAGES: u32 = 40;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Search {
    Account,
    /// The pages of the list so far, and where the next one is.
    List {
        url: String,
        found: Vec<String>,
        pages: u32,
    },
    /// The orders that are still to be read.
    Orders {
        urls: Vec<String>,
    },
}

impl Search {
    pub(super) fn want(&self, known: &Known) -> Want {
        match self {
            Search::Account => post_as_get(known.account.as_deref().unwrap_or_default()),
            Search::List { url, .. } => post_as_get(url),
            Search::Orders { urls } => post_as_get(urls.first().map_or("", String::as_str)),
        }
    }

    /// Whatever does not fit leads back to placing the order.
    pub(super) fn handle(self, response: &Response, known: &Known) -> Next {
        let again = Ok((State::NewOrder, None));
        match self {
            Search::Account => {
                let account: AccountObject = response.read("reading the account").unwrap_or_default();
                let list = |url| State::Search(Search::List { url, found: vec![], pages: 0 });
                Ok((account.orders.map_or(State::NewOrder, list), None))
            }
            Search::List { mut found, pages, .. } => {
                let list: OrderList = response.read("reading the list of orders").unwrap_or_default();
                found.extend(list.orders);
                if let Some(url) = response.next.clone().filter(|_| pages < MOST_PAGES) {
                    return Ok((State::Search(Search::List { url, found, pages: pages + 1 }), None));
                }
                let mut urls: Vec<String> = found.iter().rev().take(MOST_READ).cloned().collect();
                let first: Vec<String> = found.into_iter().take(MOST_READ).filter(|url| !urls.contains(url)).collect();
                urls.extend(first);
                if urls.is_empty() { again } else { Ok((State::Search(Search::Orders { urls }), None)) }
            }
            Search::Orders { mut urls } => {
                if urls.is_empty() {
                    return again;
                }
                let url = urls.remove(0);
                let Ok(order) = response.read::<Order>("reading an order") else { return next_of(urls) };
                if !is_ours(&order, known) {
                    return next_of(urls);
                }
                let urls_of = OrderUrls { order: url, finalize: order.finalize };
                match order.status.as_str() {
                    "ready" => Ok((State::Finalize(Finalize { urls: urls_of, certificate_request: None }), None)),
                    "pending" => Ok((
                        State::Authorizations(Authorizations {
                            urls: urls_of,
                            to_read: order.authorizations,
                            proofs: vec![],
                            watched: vec![],
                        }),
                        None,
                    )),
                    // With another key, or over.
                    _ => next_of(urls),
                }
            }
        }
    }
}

fn next_of(urls: Vec<String>) -> Next {
    match urls.is_empty() {
        true => Ok((State::NewOrder, None)),
        false => Ok((State::Search(Search::Orders { urls }), None)),
    }
}

/// Whether an order is for exactly these names.
fn is_ours(order: &Order, known: &Known) -> bool {
    let wanted: BTreeSet<String> =
        known.brief.identifiers().iter().map(|one: &Identifier| one.value()["value"].to_string()).collect();
    let named: BTreeSet<String> =
        order.identifiers.iter().map(|one| serde_json::Value::from(one.value.as_str()).to_string()).collect();
    !order.authorizations.is_empty() && wanted == named
}

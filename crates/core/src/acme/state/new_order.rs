//! Waits for the new order (RFC 8555 section 7.4).

use serde_json::json;

use super::{Authorizations, Finalize, Known, Next, OrderUrls, Response, State, Want};
use crate::acme::identifier::Identifier;
use crate::acme::message::{Order, Refusal};

pub(super) fn want(known: &Known) -> Want {
    let directory = known.directory.as_ref().expect("the directory comes first");
    let identifiers: Vec<_> = known.brief.identifiers().iter().map(Identifier::value).collect();
    let mut payload = json!({ "identifiers": identifiers });
    if let (Some(replaces), Some(_)) = (&known.brief.replaces, &directory.renewal_info) {
        payload["replaces"] = json!(replaces);
    }
    if let Some(profile) = &known.brief.profile {
        payload["profile"] = json!(profile);
    }
    Want::Post { url: directory.new_order.clone(), json: payload.to_string() }
}

pub(super) fn handle(response: &Response) -> Next {
    let order: Order = response.read("placing the order")?;
    let Some(url) = response.location.clone() else {
        return Err(Refusal::Unexpected {
            during: "placing the order".into(),
            what: "no Location field with the order's URL".into(),
        });
    };
    let urls = OrderUrls { order: url, finalize: order.finalize };
    // `ready` at once: the CA still holds valid authorizations for all names (section 7.1.6).
    if order.status == "ready" {
        return Ok((State::Finalize(Finalize { urls, certificate_request: None }), None));
    }
    Ok((
        State::Authorizations(Authorizations { urls, to_read: order.authorizations, proofs: vec![], watched: vec![] }),
        None,
    ))
}

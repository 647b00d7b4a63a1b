//! Waits for the account (RFC 8555 section 7.3). The same key gets the same account again, so asking twice is safe.

use serde_json::json;

use super::{Known, Next, Response, State, Want};
use crate::acme::message::Refusal;

pub(super) fn want(known: &Known) -> Want {
    let directory = known.directory.as_ref().expect("the directory comes first");
    let mut payload = json!({ "termsOfServiceAgreed": known.brief.terms_accepted });
    if let Some(contact) = &known.brief.contact {
        payload["contact"] = json!([format!("mailto:{contact}")]);
    }
    Want::Post { url: directory.new_account.clone(), json: payload.to_string() }
}

pub(super) fn handle(response: &Response, known: &mut Known) -> Next {
    let Some(url) = &response.location else {
        return Err(Refusal::Unexpected {
            during: "opening the account".into(),
            what: "no Location field with the account's URL".into(),
        });
    };
    known.account = Some(url.clone());
    Ok((State::NewOrder, None))
}

//! Takes the certificate chain (RFC 8555 section 7.4.2), a PEM text that must hold readable certificates.

use super::{Next, Response, State};
use crate::acme::message::Refusal;
use crate::certificate::read_chain;

pub(super) fn handle(response: &Response) -> Next {
    let unexpected = |what: String| Refusal::Unexpected { during: "downloading the certificate".into(), what };
    let chain_pem = String::from_utf8(response.body.clone()).map_err(|error| unexpected(error.to_string()))?;
    read_chain(chain_pem.as_bytes()).map_err(|error| unexpected(error.to_string()))?;
    Ok((State::Finished { chain_pem }, None))
}

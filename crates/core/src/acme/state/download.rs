//! Takes the certificate chain (RFC 8555 section 7.4.2), a PEM text that must hold readable certificates; and looks for
//! the preferred one among the alternates, where one is preferred.

use serde::{Deserialize, Serialize};

use super::{Known, Next, Response, State, Want, post_as_get};
use crate::acme::message::Refusal;
use crate::certificate::read_chain;

/// No CA offers more; a hostile one might.
const MOST_ALTERNATES: usize = 8;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Download {
    pub url: String,
    /// The first chain, once it is known not to be the preferred one, and the URLs that are still to be tried.
    #[serde(default)]
    pub fallback: Option<String>,
    #[serde(default)]
    pub alternates: Vec<String>,
}

impl Download {
    pub(super) fn of(url: String) -> Self {
        Self { url, fallback: None, alternates: vec![] }
    }

    pub(super) fn want(&self) -> Want {
        post_as_get(&self.url)
    }

    pub(super) fn handle(mut self, response: &Response, known: &Known) -> Next {
        let read = read(response);
        if let (Some(first), Err(_)) = (&self.fallback, &read) {
            // An alternate that is spoilt is none; the first chain was good.
            return Ok((State::Finished { chain_pem: first.clone() }, None));
        }
        let (chain_pem, top) = read?;
        let wanted = known.brief.preferred_chain.as_deref();
        if wanted.is_none_or(|wanted| top.contains(wanted)) {
            return Ok((State::Finished { chain_pem }, None));
        }
        let first = match self.fallback.take() {
            Some(first) => first,
            None => {
                self.alternates = response.alternates.iter().take(MOST_ALTERNATES).cloned().collect();
                chain_pem
            }
        };
        if self.alternates.is_empty() {
            return Ok((State::Finished { chain_pem: first }, None));
        }
        let url = self.alternates.remove(0);
        Ok((State::Download(Self { url, fallback: Some(first), alternates: self.alternates }), None))
    }
}

/// The chain, and the issuer of its last certificate.
fn read(response: &Response) -> Result<(String, String), Refusal> {
    let unexpected = |what: String| Refusal::Unexpected { during: "downloading the certificate".into(), what };
    let chain_pem = String::from_utf8(response.body.clone()).map_err(|error| unexpected(error.to_string()))?;
    let chain = read_chain(chain_pem.as_bytes()).map_err(|error| unexpected(error.to_string()))?;
    let top = chain.last().map(|last| last.issuer.clone()).unwrap_or_default();
    Ok((chain_pem, top))
}

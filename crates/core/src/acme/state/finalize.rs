//! Hands the certificate request over (RFC 8555 section 7.4, "finalize").

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use serde_json::json;

use super::{Issuance, Next, OrderUrls, Response, Want};

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Finalize {
    pub urls: OrderUrls,
    /// base64url of the DER; `None` until the driver has made it.
    pub certificate_request: Option<String>,
}

impl Finalize {
    pub(super) fn want(&self) -> Want {
        match &self.certificate_request {
            None => Want::CertificateRequest,
            Some(csr) => Want::Post { url: self.urls.finalize.clone(), json: json!({ "csr": csr }).to_string() },
        }
    }

    pub(super) fn handle(self, response: &Response, now: Timestamp) -> Next {
        Issuance { order: self.urls.order, polls: 0 }.handle(response, now)
    }
}

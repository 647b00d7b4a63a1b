//! What came of a revocation.

use brightharbor_io::secure::Revoked;

use serde::Serialize;

use super::{BroughtDocument, SecuredDocument};

#[derive(Serialize)]
pub struct RevokedDocument {
    site: String,
    carried_out: bool,
    /// When the revoked one would have expired.
    revoked_until: String,
    successor: Option<SecuredDocument>,
    /// The sites that shared it.
    followed: Vec<SecuredDocument>,
    services: Vec<BroughtDocument>,
}

impl From<&Revoked> for RevokedDocument {
    fn from(revoked: &Revoked) -> Self {
        Self {
            site: revoked.revocation.site.to_string(),
            carried_out: revoked.changed.entry.is_some(),
            revoked_until: revoked.revocation.not_after.to_string(),
            successor: revoked.successor.as_ref().map(SecuredDocument::from),
            followed: revoked.sites.iter().map(SecuredDocument::from).collect(),
            services: revoked.services.iter().map(BroughtDocument::from).collect(),
        }
    }
}

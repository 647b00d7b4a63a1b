//! What came of a revocation.

use serde::Serialize;

use super::SecuredDocument;
use crate::revocations::Revoked;
use crate::services::Brought;

#[derive(Serialize)]
pub struct RevokedDocument<'a> {
    site: String,
    carried_out: bool,
    /// When the revoked one would have run out.
    revoked_until: String,
    successor: Option<SecuredDocument>,
    /// The sites that shared it.
    followed: Vec<SecuredDocument>,
    services: &'a [Brought],
}

impl<'a> From<&'a Revoked> for RevokedDocument<'a> {
    fn from(revoked: &'a Revoked) -> Self {
        Self {
            site: revoked.revocation.site.to_string(),
            carried_out: revoked.changed.entry.is_some(),
            revoked_until: revoked.revocation.not_after.to_string(),
            successor: revoked.successor.as_ref().map(SecuredDocument::from),
            followed: revoked.sites.iter().map(SecuredDocument::from).collect(),
            services: &revoked.services,
        }
    }
}

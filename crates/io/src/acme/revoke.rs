//! Drives a revocation: signs and sends what the machine says, with the account that is kept for the CA.

use std::fs;

use brightharbor_core::acme::{Revocation, RevocationReason, RevocationStep};
use brightharbor_core::change::content_hash;
use brightharbor_core::harbor::{Ca, Layout};

use super::account_key::{AccountKey, AccountKeyError};
use super::wire::Wire;
use crate::trust::{self, TrustError};

#[derive(Debug, thiserror::Error)]
pub enum RevokeError {
    #[error("the settings name no CA")]
    NoCa,
    #[error("there is no account at the CA {0} in this harbor")]
    NoAccount(String),
    #[error("the CA refuses: {0}")]
    Refused(String),
    #[error("the CA cannot be reached: {0}")]
    Unreachable(String),
    #[error(transparent)]
    Trust(#[from] TrustError),
    #[error(transparent)]
    Key(#[from] AccountKeyError),
}

/// Requests of one revocation; the machine itself ends long before.
const MOST_REQUESTS: usize = 20;

/// Revokes the certificate with this DER at the CA of the settings.
pub async fn revoke(ca: &Ca, layout: &Layout, der: &[u8], reason: RevocationReason) -> Result<(), RevokeError> {
    let directory = ca.directory.as_deref().ok_or(RevokeError::NoCa)?;
    let folder = layout.ca().join(&content_hash(directory.as_bytes())[..16]);
    let account = fs::read_to_string(folder.join("account.url")).ok();
    let account = account.ok_or_else(|| RevokeError::NoAccount(directory.to_string()))?;
    let key = AccountKey::load_or_make(&folder.join("account.pem"))?;
    let mut wire = Wire::new(trust::client(trust::roots(ca.trust_root.as_slice())?));
    let mut revocation = Revocation::new(directory, account.trim(), der, reason);
    for _ in 0..MOST_REQUESTS {
        match revocation.next() {
            RevocationStep::Send(request) => {
                let response = wire.send(&key, None, &request).await.map_err(RevokeError::Unreachable)?;
                revocation.received(&response);
            }
            RevocationStep::Done => return Ok(()),
            RevocationStep::Refused(why) => return Err(RevokeError::Refused(why)),
        }
    }
    Err(RevokeError::Refused("it comes to no end".into()))
}

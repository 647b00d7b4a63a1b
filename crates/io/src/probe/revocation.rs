//! Asks CAs whether they have revoked certificates: their lists are fetched, each once for a command, and judged by the core.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use brightharbor_core::certificate::{CertificateFacts, RevocationStatus, judge_list};
use tokio::sync::OnceCell;
use tokio::time::timeout;

use super::issuer::fetch;
use crate::clock;

/// The longest lists of large CAs have some megabytes.
const MOST_BYTES: usize = 32 << 20;
const PATIENCE: Duration = Duration::from_secs(15);

type Fetched = Arc<OnceCell<Result<Vec<u8>, String>>>;

/// What was fetched already.
#[derive(Default)]
pub struct RevocationLists {
    by_address: Mutex<HashMap<String, Fetched>>,
}

impl RevocationLists {
    /// What the CA says of the leaf of a chain as it was sent.
    pub async fn status(&self, chain: &[CertificateFacts]) -> RevocationStatus {
        let Some(leaf) = chain.first() else { return RevocationStatus::NotAsked("nothing was shown".into()) };
        if leaf.issuer == leaf.subject {
            return RevocationStatus::NotAsked("it is signed with its own key".into());
        }
        let Some(issuer) = chain[1..].iter().find(|facts| facts.subject == leaf.issuer) else {
            return RevocationStatus::NotAsked("the certificate of its issuer was not sent".into());
        };
        // What has run out is on no list any more.
        if leaf.not_after <= clock::now() {
            return RevocationStatus::NotAsked("it has expired".into());
        }
        let mut last = RevocationStatus::NotAsked("it names no list of revoked certificates".into());
        for address in leaf.lists_at.iter().filter(|address| address.starts_with("http")) {
            last = match self.list(address).await {
                Ok(list) => judge_list(&list, address, leaf, issuer, clock::now()),
                Err(why) => RevocationStatus::Unknown(format!("{address}: {why}")),
            };
            if !matches!(last, RevocationStatus::Unknown(_)) {
                break;
            }
        }
        last
    }

    async fn list(&self, address: &str) -> Result<Vec<u8>, String> {
        let cell = {
            let mut known = self.by_address.lock().unwrap_or_else(PoisonError::into_inner);
            Arc::clone(known.entry(address.to_string()).or_default())
        };
        let fetching = async {
            let late = || Err(format!("it has not come within {} s", PATIENCE.as_secs()));
            timeout(PATIENCE, fetch(address, MOST_BYTES)).await.unwrap_or_else(|_| late())
        };
        cell.get_or_init(|| fetching).await.clone()
    }
}

//! Asks CAs whether they have revoked certificates: their lists are fetched, each once for a command, and judged by the core.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use brightharbor_core::certificate::{CertificateFacts, RevocationStatus, judge_list};
use brightharbor_core::change::content_hash;
use tokio::sync::OnceCell;
use tokio::time::timeout;

use super::issuer::fetch;
use crate::clock;
use crate::install::{make_private_folder, read_if_there, write_atomically};

/// The longest lists of large CAs have some megabytes.
const MOST_BYTES: usize = 32 << 20;
const PATIENCE: Duration = Duration::from_secs(15);

type Fetched = Arc<OnceCell<Result<Vec<u8>, String>>>;

/// What was fetched already, and where it is kept for later commands.
#[derive(Default)]
pub struct RevocationLists {
    by_address: Mutex<HashMap<String, Fetched>>,
    folder: Option<PathBuf>,
}

/// CAs make a list anew every few hours or days.
const KEPT_FOR: Duration = Duration::from_secs(6 * 3600);

impl RevocationLists {
    /// Keeps what it fetches in a folder of the harbor: a timer that runs every few minutes asks a few times a day.
    pub fn kept_in(folder: PathBuf) -> Self {
        Self { folder: Some(folder), ..Self::default() }
    }

    /// What the CA says of the leaf of a chain as it was sent.
    pub async fn status(&self, chain: &[CertificateFacts]) -> RevocationStatus {
        let Some(leaf) = chain.first() else { return RevocationStatus::NotAsked("nothing was shown".into()) };
        if leaf.issuer == leaf.subject {
            return RevocationStatus::NotAsked("it is self-signed".into());
        }
        let Some(issuer) = chain[1..].iter().find(|facts| facts.subject == leaf.issuer) else {
            return RevocationStatus::NotAsked("the certificate of its issuer is missing in the chain".into());
        };
        // What has run out is on no list any more.
        if leaf.not_after <= clock::now() {
            return RevocationStatus::NotAsked("it has expired".into());
        }
        let mut last = RevocationStatus::NotAsked("the certificate names no CRL".into());
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
        cell.get_or_init(|| self.kept_or_fetched(address)).await.clone()
    }

    async fn kept_or_fetched(&self, address: &str) -> Result<Vec<u8>, String> {
        let path = self.folder.as_ref().map(|folder| folder.join(&content_hash(address.as_bytes())[..32]));
        let kept = path.as_ref().and_then(|path| Some((read_if_there(path).ok()??, age(path)?)));
        if let Some((list, _)) = kept.as_ref().filter(|(_, age)| *age < KEPT_FOR) {
            return Ok(list.clone());
        }
        let late = || Err(format!("it was not fetched within {} s", PATIENCE.as_secs()));
        match (timeout(PATIENCE, fetch(address, MOST_BYTES)).await.unwrap_or_else(|_| late()), kept) {
            (Ok(list), _) => {
                if let (Some(path), Some(folder)) = (&path, &self.folder)
                    && make_private_folder(folder).is_ok()
                {
                    // Fetched once more, it is no harm.
                    let _ = write_atomically(path, &list, 0o600);
                }
                Ok(list)
            }
            // As long as it says that it holds.
            (Err(_), Some((list, _))) => Ok(list),
            (Err(why), None) => Err(why),
        }
    }
}

fn age(path: &Path) -> Option<Duration> {
    std::fs::metadata(path).ok()?.modified().ok()?.elapsed().ok()
}

//! Asks CAs whether they have revoked certificates: their lists are fetched, each once for a command, or their responders
//! asked (OCSP, RFC 6960 appendix A.1), and what they say is judged by the core.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use brightharbor_core::certificate::{CertificateFacts, RevocationStatus, judge_list, judge_ocsp, ocsp_question};
use brightharbor_core::change::content_hash;
use jiff::Timestamp;
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
    by_source: Mutex<HashMap<Vec<u8>, Fetched>>,
    folder: Option<PathBuf>,
}

/// Where to ask, and what.
struct Source<'a> {
    key: Vec<u8>,
    address: &'a str,
    question: Option<Vec<u8>>,
}

const OCSP_TYPE: &str = "application/ocsp-request";
const ISSUER_MISSING: &str = "the certificate of its issuer is missing in the chain";

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
            return RevocationStatus::NotAsked(ISSUER_MISSING.into());
        };
        // What has run out is on no list any more.
        if leaf.not_after <= clock::now() {
            return RevocationStatus::NotAsked("it has expired".into());
        }
        let (mut last, now) =
            (RevocationStatus::NotAsked("the certificate names no CRL and no OCSP responder".into()), clock::now());
        // A list is for all certificates of its CA, and does not tell the CA which site is looked at.
        for address in leaf.lists_at.iter().filter(|address| address.starts_with("http")) {
            last = self.told(address, None, |list| judge_list(list, address, leaf, issuer, now)).await;
            if !matches!(last, RevocationStatus::Unknown(_)) {
                return last;
            }
        }
        for address in leaf.responders_at.iter().filter(|address| address.starts_with("http")) {
            last = match ocsp_question(leaf, issuer) {
                Ok(question) => {
                    self.told(address, Some(question), |answer| judge_ocsp(answer, leaf, issuer, now)).await
                }
                Err(why) => RevocationStatus::Unknown(why),
            };
            if !matches!(last, RevocationStatus::Unknown(_)) {
                return last;
            }
        }
        last
    }

    /// What comes back from the address, judged; without a question it is a list.
    async fn told(
        &self,
        address: &str,
        question: Option<Vec<u8>>,
        judge: impl Fn(&[u8]) -> RevocationStatus,
    ) -> RevocationStatus {
        let counts = |told: &[u8]| !matches!(judge(told), RevocationStatus::Unknown(_));
        let source =
            Source { key: [address.as_bytes(), question.as_deref().unwrap_or_default()].concat(), address, question };
        let cell = {
            let mut known = self.by_source.lock().unwrap_or_else(PoisonError::into_inner);
            Arc::clone(known.entry(source.key.clone()).or_default())
        };
        match cell.get_or_init(|| self.kept_or_fetched(source, counts)).await {
            Ok(told) => match judge(told) {
                RevocationStatus::Unknown(why) => RevocationStatus::Unknown(format!("{address}: {why}")),
                known => known,
            },
            Err(why) => RevocationStatus::Unknown(format!("{address}: {why}")),
        }
    }

    /// Only what counts is kept: an error page of today is no answer of tomorrow.
    async fn kept_or_fetched(&self, source: Source<'_>, counts: impl Fn(&[u8]) -> bool) -> Result<Vec<u8>, String> {
        let path = self.folder.as_ref().map(|folder| folder.join(&content_hash(&source.key)[..32]));
        let kept = path.as_ref().and_then(|path| Some((read_if_there(path).ok()??, age(path)?)));
        let kept = kept.filter(|(told, _)| counts(told));
        if let Some((told, _)) = kept.as_ref().filter(|(_, age)| *age < KEPT_FOR) {
            return Ok(told.clone());
        }
        let late = || Err(format!("nothing came within {} s", PATIENCE.as_secs()));
        let fetched = fetch(source.address, source.question.map(|question| (OCSP_TYPE, question)), MOST_BYTES);
        match (timeout(PATIENCE, fetched).await.unwrap_or_else(|_| late()), kept) {
            (Ok(told), _) if counts(&told) => {
                if let (Some(path), Some(folder)) = (&path, &self.folder)
                    && make_private_folder(folder).is_ok()
                {
                    // Fetched once more, it is no harm.
                    let _ = write_atomically(path, &told, 0o600);
                }
                Ok(told)
            }
            // As long as it says that it holds.
            (_, Some((told, _))) => Ok(told),
            (told, None) => told,
        }
    }
}

/// What was stapled to the handshake that showed this chain.
pub(super) fn judge_staple(answer: &[u8], chain: &[CertificateFacts], now: Timestamp) -> RevocationStatus {
    let Some(leaf) = chain.first() else { return RevocationStatus::NotAsked("nothing was shown".into()) };
    match chain[1..].iter().find(|facts| facts.subject == leaf.issuer) {
        Some(issuer) => judge_ocsp(answer, leaf, issuer, now),
        None => RevocationStatus::NotAsked(ISSUER_MISSING.into()),
    }
}

fn age(path: &Path) -> Option<Duration> {
    std::fs::metadata(path).ok()?.modified().ok()?.elapsed().ok()
}

//! Asks a CA when certificates should be renewed (RFC 9773): unsigned, and not more often than the CA wants.

use std::fs;
use std::path::PathBuf;

use brightharbor_core::acme::Response;
use brightharbor_core::certificate::CertificateFiles;
use brightharbor_core::certificate::{RenewalWindow, read_chain, renewal_id};
use brightharbor_core::name::Hostname;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

use super::session::Session;
use crate::install::{make_private_folder, write_atomically};

/// Between two questions about one certificate, where the CA does not say (RFC 9773 section 4.3.3).
const USUAL: SignedDuration = SignedDuration::from_hours(6);
/// What the CA says is bounded: it must neither be flooded nor silence us.
const SHORTEST: SignedDuration = SignedDuration::from_mins(1);
const LONGEST: SignedDuration = SignedDuration::from_hours(24);

/// What was said last, kept beside the CA's account.
#[derive(Serialize, Deserialize)]
struct Kept {
    /// The folder of the certificate that it was about.
    folder: PathBuf,
    window: Option<RenewalWindow>,
    ask_again: Timestamp,
}

/// When the CA wants the certificate of a site to be renewed; `None` where it does not say.
pub async fn renewal_window(
    session: &Session,
    site: &Hostname,
    files: &CertificateFiles,
    now: Timestamp,
) -> Option<RenewalWindow> {
    let folder = session.folder.path("renewal");
    let path = folder.join(format!("{site}.json"));
    let kept: Option<Kept> = fs::read(&path).ok().and_then(|text| serde_json::from_slice(&text).ok());
    let kept = kept.filter(|kept| kept.folder == files.folder());
    if let Some(kept) = kept.as_ref().filter(|kept| kept.ask_again > now) {
        return kept.window.clone();
    }
    let pem = fs::read(files.chain()).ok()?;
    let identifier = renewal_id(&read_chain(&pem).ok()?.first()?.der)?;
    let asked = ask(session, &identifier, now).await;
    // Without an answer, what it said before goes on to hold.
    let (window, ask_again) = match asked {
        Some((window, again)) => (window, again),
        None => (kept.and_then(|kept| kept.window), now + USUAL),
    };
    let keep = Kept { folder: files.folder().to_path_buf(), window: window.clone(), ask_again };
    if let Ok(text) = serde_json::to_vec(&keep)
        && make_private_folder(&folder).is_ok()
    {
        // A question too many is no harm.
        let _ = write_atomically(&path, &text, 0o600);
    }
    window
}

async fn ask(session: &Session, identifier: &str, now: Timestamp) -> Option<(Option<RenewalWindow>, Timestamp)> {
    let directory = session.read_directory().await.ok()?;
    let Some(base) = directory.renewal_info else { return Some((None, now + LONGEST)) };
    let answer = get(session, format!("{}/{identifier}", base.trim_end_matches('/'))).await?;
    if !answer.is_success() {
        return None;
    }
    let pause = answer.retry_after(now).map_or(USUAL, |until| until.duration_since(now)).clamp(SHORTEST, LONGEST);
    Some((RenewalWindow::read(&answer.body), now + pause))
}

async fn get(session: &Session, url: String) -> Option<Response> {
    let mut wire = session.wire();
    let answer = wire.get(&url).await.ok()?;
    session.give_back(wire, answer.nonce.iter().cloned().collect());
    Some(answer)
}

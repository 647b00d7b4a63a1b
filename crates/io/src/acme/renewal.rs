//! Asks a CA when certificates should be renewed (RFC 9773): unsigned, and not more often than the CA wants.

use std::fs;
use std::path::PathBuf;

use brightharbor_core::acme::Response;
use brightharbor_core::certificate::CertificateFiles;
use brightharbor_core::certificate::{RenewalSaid, RenewalWindow, read_chain, renewal_id};
use brightharbor_core::name::Host;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::session::Session;
use crate::install::{make_private_folder, write_atomically};

/// What was said last, kept beside the CA's account.
#[derive(Serialize, Deserialize)]
struct Kept {
    /// The folder of the certificate that it was about.
    folder: PathBuf,
    #[serde(flatten)]
    said: RenewalSaid,
}

/// When the CA wants the certificate of a site to be renewed; `None` where it does not say.
pub async fn renewal_window(
    session: &Session,
    site: &Host,
    files: &CertificateFiles,
    now: Timestamp,
) -> Option<RenewalWindow> {
    let folder = session.folder.path("renewal");
    let path = folder.join(format!("{site}.json"));
    let kept: Option<Kept> = fs::read(&path).ok().and_then(|text| serde_json::from_slice(&text).ok());
    let kept = kept.filter(|kept| kept.folder == files.folder());
    if let Some(kept) = kept.as_ref().filter(|kept| kept.said.ask_again > now) {
        return kept.said.window.clone();
    }
    if session.hopeless(now).is_some() {
        return kept.and_then(|kept| kept.said.window);
    }
    let pem = fs::read(files.chain()).ok()?;
    let identifier = renewal_id(&read_chain(&pem).ok()?.first()?.der)?;
    let said = ask(session, &identifier, kept.and_then(|kept| kept.said.window), now).await;
    let window = said.window.clone();
    let keep = Kept { folder: files.folder().to_path_buf(), said };
    if let Ok(text) = serde_json::to_vec(&keep)
        && make_private_folder(&folder).is_ok()
    {
        // A question too many is no harm.
        let _ = write_atomically(&path, &text, 0o600);
    }
    window
}

async fn ask(session: &Session, identifier: &str, before: Option<RenewalWindow>, now: Timestamp) -> RenewalSaid {
    let Ok(directory) = session.read_directory().await else { return RenewalSaid::of(None, before, now) };
    let Some(base) = directory.renewal_info else { return RenewalSaid::not_offered(now) };
    let answer = get(session, format!("{}/{identifier}", base.trim_end_matches('/'))).await;
    RenewalSaid::of(answer.as_ref(), before, now)
}

async fn get(session: &Session, url: String) -> Option<Response> {
    let mut wire = session.wire();
    let answer = wire.get(&url).await.ok()?;
    session.give_back(wire, answer.nonce.iter().cloned().collect());
    Some(answer)
}

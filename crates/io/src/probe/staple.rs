//! Fetches what CAs state of certificates that demand to be shown with it (RFC 7633), for new ones and for those in place.
//! What of it counts, and when another is due, is for the core (`certificate/staple.rs`).

use std::time::Duration;

use brightharbor_core::certificate::{CertificateFiles, Demanding};

use super::RevocationLists;
use crate::clock;
use crate::harbor::Harbor;
use crate::install::read_if_there;
use crate::server::can_staple;
use crate::trust::root_of;

/// A CA may learn of a certificate a moment after it has issued it.
const PAUSES: [Duration; 4] = [Duration::ZERO, Duration::from_secs(1), Duration::from_secs(3), Duration::from_secs(6)];

/// For a chain, PEM, that is to be put in place; `None` where its leaf demands nothing.
///
/// # Errors
/// In words, where it demands one and none can be had.
pub async fn staple_of_new(chain_pem: &str, harbor: &Harbor) -> Result<Option<Vec<u8>>, String> {
    let Some(demanding) = demanding(chain_pem, harbor)? else { return Ok(None) };
    let mut last = String::new();
    for pause in PAUSES {
        tokio::time::sleep(pause).await;
        match fetch_staple(&demanding, &RevocationLists::default(), Duration::ZERO).await {
            Ok(answer) => return Ok(Some(answer)),
            Err(why) => last = why,
        }
    }
    Err(last)
}

/// The same for a certificate that is in place elsewhere in the harbor: what lies beside it is taken as long as it counts.
pub async fn staple_in_place(
    files: &CertificateFiles,
    chain_pem: &str,
    harbor: &Harbor,
) -> Result<Option<Vec<u8>>, String> {
    let Some(demanding) = demanding(chain_pem, harbor)? else { return Ok(None) };
    match read_if_there(&files.staple()).ok().flatten().filter(|answer| demanding.check(answer, clock::now()).is_ok()) {
        Some(answer) => Ok(Some(answer)),
        None => staple_of_new(chain_pem, harbor).await,
    }
}

/// What a chain demands, where the web server could show it.
fn demanding(chain_pem: &str, harbor: &Harbor) -> Result<Option<Demanding>, String> {
    let roots = &harbor.settings.internet.trust_roots;
    let demanding = Demanding::of(chain_pem, |leaf| root_of(roots, leaf))?;
    if demanding.is_some() {
        can_staple(&harbor.settings, &harbor.layout)?;
    }
    Ok(demanding)
}

/// One that counts now, from any of the CA's responders; one that came within `kept_for` is as good.
pub async fn fetch_staple(
    demanding: &Demanding,
    asked: &RevocationLists,
    kept_for: Duration,
) -> Result<Vec<u8>, String> {
    let question = demanding.question()?;
    let mut last = String::new();
    for address in demanding.responders() {
        let counts = |answer: &[u8]| demanding.check(answer, clock::now()).is_ok();
        let answer = asked.answer(address, Some(question.clone()), kept_for, counts).await;
        match answer.and_then(|answer| demanding.check(&answer, clock::now()).map(|()| answer)) {
            Ok(answer) => return Ok(answer),
            Err(why) => last = format!("{address}: {why}"),
        }
    }
    Err(last)
}

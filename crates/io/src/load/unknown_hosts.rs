//! What a change of sites means for visitors who ask for a host that nobody has here: what is there, and what the server
//! can do. Whether anything has to be written is decided in core.

use brightharbor_core::change::ChangeSet;
use brightharbor_core::harbor::{Settings, WebServer};
use brightharbor_core::render::{can_refuse, modules_question, refuses_https};
use brightharbor_core::site::{UnknownHostsLoaded, is_https_served, touched_sites};
use rcgen::{CertificateParams, KeyPair};

use super::LoadError;
use crate::overlay::Overlay;
use crate::server::run_bounded;

/// Reads it all, for a change that concerns sites. The server is asked only where https is to be answered for the first time.
pub async fn unknown_hosts(overlay: &Overlay<'_>, set: &ChangeSet) -> Result<UnknownHostsLoaded, LoadError> {
    let server = overlay.settings.web.server;
    let file = overlay.file(&overlay.layout.unknown_hosts(server))?;
    let pair = overlay.file(&overlay.layout.unknown_hosts_pair(server))?;
    let (others, secured_others) = overlay.store.others_than(&touched_sites(set))?;
    let (mut can_refuse, mut fresh_pair) = (file.as_deref().is_some_and(refuses_https), None);
    if is_https_served(set, secured_others) && !can_refuse {
        can_refuse = overlay.ask("whether the web server can refuse a handshake", asked(&overlay.settings)).await?;
    }
    if can_refuse && pair.is_none() && server == WebServer::Apache {
        fresh_pair = overlay.ask("a key that nobody uses", async { made_pair() }).await?;
    }
    Ok(UnknownHostsLoaded { file, pair, fresh_pair, can_refuse, others, secured_others })
}

/// A server that does not say what it is counts as an old one.
async fn asked(settings: &Settings) -> bool {
    let Some(question) = modules_question(settings.web.server, &settings.web.test) else { return false };
    run_bounded(&question, &[]).await.is_ok_and(|told| can_refuse(settings.web.server, &told))
}

/// A certificate that signs itself, with its key. The handshake ends before either is used.
fn made_pair() -> Option<String> {
    let key = KeyPair::generate().ok()?;
    let certificate = CertificateParams::new(vec!["unknown.invalid".to_string()]).ok()?.self_signed(&key).ok()?;
    Some(certificate.pem() + &key.serialize_pem())
}

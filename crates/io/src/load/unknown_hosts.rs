//! What a change of sites means for visitors who ask for a host that nobody has here: what is there, and what the server
//! can do. Whether anything has to be written is decided in core.

use brightharbor_core::change::ChangeSet;
use brightharbor_core::harbor::{Settings, WebServer};
use brightharbor_core::render::{can_refuse, modules_question};
use brightharbor_core::site::{UnknownHostsLoaded, brings_https};
use rcgen::{CertificateParams, KeyPair};

use super::LoadError;
use crate::overlay::Overlay;
use crate::server::run_bounded;

/// Reads it all, for a change that concerns sites.
pub async fn unknown_hosts(overlay: &Overlay<'_>, set: &ChangeSet) -> Result<UnknownHostsLoaded, LoadError> {
    let server = overlay.settings.web.server;
    let file = overlay.file(&overlay.layout.unknown_hosts(server))?;
    let pair = overlay.file(&overlay.layout.unknown_hosts_pair(server))?;
    let can_refuse = match server {
        WebServer::StandIn | WebServer::None => false,
        _ => overlay.ask("whether the web server can refuse a handshake", asked(&overlay.settings)).await?,
    };
    let fresh_pair = match pair.is_none() && server == WebServer::Apache && brings_https(set) {
        true => overlay.ask("a key that nobody uses", async { fresh_pair() }).await?,
        false => None,
    };
    Ok(UnknownHostsLoaded { file, pair, fresh_pair, can_refuse, sites: overlay.store.site_count()? })
}

/// A server that does not say what it is counts as an old one.
async fn asked(settings: &Settings) -> bool {
    let Some(question) = modules_question(settings.web.server, &settings.web.test) else { return false };
    run_bounded(&question, &[]).await.is_ok_and(|told| can_refuse(settings.web.server, &told))
}

/// A certificate that signs itself, with its key. The handshake ends before either is used.
fn fresh_pair() -> Option<String> {
    let key = KeyPair::generate().ok()?;
    let certificate = CertificateParams::new(vec!["unknown.invalid".to_string()]).ok()?.self_signed(&key).ok()?;
    Some(certificate.pem() + &key.serialize_pem())
}

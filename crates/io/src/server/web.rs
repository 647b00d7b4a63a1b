//! The web server: its config test, its reload, and waiting until the reloaded configuration answers.

use std::net::{IpAddr, SocketAddr};
use std::time::{Duration, Instant};

use brightharbor_core::harbor::{Settings, WebServer};
use brightharbor_core::render::fingerprint;
use brightharbor_core::site::Site;
use brightharbor_core::survey::HttpOutcome;

use super::{ServerError, control, run_bounded};
use crate::probe::fetch_fingerprint;

/// Runs the server's own config test over the files as they are now.
pub fn test_web(settings: &Settings) -> Result<(), ServerError> {
    match settings.web.server {
        WebServer::None => Ok(()),
        WebServer::StandIn => control::order(settings.web.control.ok_or(ServerError::NotSet("[web] control"))?, "test"),
        WebServer::Nginx | WebServer::Apache => run_bounded(&settings.web.test, &[]).map(|_| ()),
    }
}

/// Makes the running server take the files over.
pub fn reload_web(settings: &Settings) -> Result<(), ServerError> {
    match settings.web.server {
        WebServer::None => Ok(()),
        WebServer::StandIn => {
            control::order(settings.web.control.ok_or(ServerError::NotSet("[web] control"))?, "reload")
        }
        WebServer::Nginx | WebServer::Apache => run_bounded(&settings.web.reload, &[]).map(|_| ()),
    }
}

/// A reload returns before the new workers answer. Waits, for at most three seconds, until the site's fingerprint
/// comes from every address of this host; what still differs then is for the survey to tell.
pub async fn await_fingerprint(settings: &Settings, site: &Site) {
    let wanted = fingerprint(site);
    let deadline = Instant::now() + Duration::from_secs(3);
    let listen: &[IpAddr] =
        if settings.web.listen.is_empty() { &settings.host.addresses } else { &settings.web.listen };
    for address in listen {
        let address = SocketAddr::new(*address, settings.internet.http_port());
        loop {
            let seen = fetch_fingerprint(address, site.main()).await;
            let there = matches!(&seen.outcome, HttpOutcome::Answer { body, .. } if body.trim() == wanted);
            if there || matches!(seen.outcome, HttpOutcome::NoRoute) || Instant::now() > deadline {
                break;
            }
            tokio::time::sleep(Duration::from_millis(25)).await;
        }
    }
}

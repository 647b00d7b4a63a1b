//! The web server: its config test, its reload, and waiting until the reloaded configuration answers.

use std::net::SocketAddr;
use std::time::{Duration, Instant};

use brightharbor_core::harbor::{Settings, WebServer};
use brightharbor_core::render::{fingerprint, missing_for_programs, missing_modules, modules_question};
use brightharbor_core::site::Site;
use brightharbor_core::survey::HttpOutcome;

use super::{ServerError, control, run_bounded};
use crate::probe::fetch_fingerprint;

/// Runs the server's own config test over the files as they are now.
pub async fn test_web(settings: &Settings) -> Result<(), ServerError> {
    match settings.web.server {
        WebServer::None => Ok(()),
        WebServer::StandIn => {
            control::order(settings.web.control.ok_or(ServerError::NotSet("[web] control"))?, "test").await
        }
        WebServer::Nginx | WebServer::Apache => run_bounded(&settings.web.test, &[]).await.map(|_| ()),
    }
}

/// What a web server lacks.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MissingModules {
    /// Every site needs it.
    pub for_all: Vec<&'static str>,
    /// Sites that run programs or have protected paths need it.
    pub for_programs: Vec<&'static str>,
}

/// The modules that files written here need and that the server does not have, as it says itself; `None` where there is
/// no server to ask, or where it did not say.
pub async fn ask_missing_modules(settings: &Settings) -> Result<Option<MissingModules>, ServerError> {
    let Some(question) = modules_question(settings.web.server, &settings.web.test) else { return Ok(None) };
    let told = run_bounded(&question, &[]).await?;
    let for_programs = missing_for_programs(settings.web.server, &told);
    Ok(missing_modules(settings.web.server, &told).map(|for_all| MissingModules { for_all, for_programs }))
}

/// Makes the running server take the files over.
pub async fn reload_web(settings: &Settings) -> Result<(), ServerError> {
    match settings.web.server {
        WebServer::None => Ok(()),
        WebServer::StandIn => {
            control::order(settings.web.control.ok_or(ServerError::NotSet("[web] control"))?, "reload").await
        }
        WebServer::Nginx | WebServer::Apache => run_bounded(&settings.web.reload, &[]).await.map(|_| ()),
    }
}

/// Old and new workers answer side by side for about 100 ms after a reload (nginx starts the new ones, sleeps so
/// long, and only then tells the old ones to leave).
pub const SIDE_BY_SIDE: Duration = Duration::from_millis(250);
const PATIENCE: Duration = Duration::from_secs(5);
/// A reload reads what the test has read, and starts workers besides.
const RELOAD_TO_TEST: u32 = 3;
const MOST_PATIENCE: Duration = Duration::from_secs(300);

/// How long connections may be refused while a server opens another address.
const NOBODY: Duration = Duration::from_secs(1);

/// A reload returns before the new workers answer. Waits until the site's fingerprint comes from every address of this
/// host and nothing else comes any more: for a few seconds at most, or for a few times as long as the change `took`, since
/// a server with ten thousand sites needs half a minute for its test and for its reload. What still differs then is for
/// the survey to tell.
pub async fn await_fingerprint(settings: &Settings, site: &Site, took: Duration) {
    let steady_for = match settings.web.server {
        WebServer::None => return,
        WebServer::StandIn => Duration::ZERO,
        WebServer::Nginx | WebServer::Apache => SIDE_BY_SIDE,
    };
    let wanted = fingerprint(site);
    let deadline = Instant::now() + patience(took);
    for address in settings.served_at() {
        let address = SocketAddr::new(*address, settings.internet.http_port());
        let mut steady_since: Option<Instant> = None;
        let closed_until = Instant::now() + NOBODY;
        while Instant::now() < deadline {
            let seen = fetch_fingerprint(address, site.main()).await;
            match &seen.outcome {
                HttpOutcome::NoRoute => break,
                // A server that reloads keeps its sockets open: here is none.
                HttpOutcome::Closed(_) if Instant::now() > closed_until => break,
                HttpOutcome::Answer { body, .. } if body.trim() == wanted => {
                    if steady_since.get_or_insert_with(Instant::now).elapsed() >= steady_for {
                        break;
                    }
                }
                _ => steady_since = None,
            }
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    }
}

fn patience(took: Duration) -> Duration {
    (PATIENCE + took * RELOAD_TO_TEST).min(MOST_PATIENCE)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_slow_server_is_waited_for_longer_and_none_for_ever() {
        let seconds = |took: u64| patience(Duration::from_secs(took)).as_secs();
        assert_eq!([0, 20, 3_600].map(seconds), [5, 65, 300]);
    }
}

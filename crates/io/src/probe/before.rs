//! Asks the running web server about a name before it is attached: what it answers for the name, and for names that nobody
//! has. What follows from it is decided in `site::answered` of the core.

use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use brightharbor_core::harbor::Settings;
use brightharbor_core::name::Host;
use brightharbor_core::render::{FINGERPRINT_PATH, is_fingerprint};
use brightharbor_core::site::{Answered, AnsweredBefore, CertificateAnswered, PageAnswered, STRANGERS, has_its_own};
use brightharbor_core::survey::TlsOutcome;
use futures_util::future::{join, join_all};
use tokio::time::{sleep, timeout};

use super::page::{authority, get};
use super::tls::shake_hands;
use crate::http::HttpError;
use crate::server::SIDE_BY_SIDE;
use crate::trust;

/// A server of this host answers at once, or is not there.
const PATIENCE: Duration = Duration::from_secs(2);

/// What an address answers for both names that nobody has.
pub type Strangers = Vec<(IpAddr, [Answered; 2])>;

/// Asks every address that sites are served at. One that answers nothing at all is left out, so that it is waited for once.
pub async fn hear_strangers(settings: &Settings) -> Strangers {
    let strangers = STRANGERS.map(|name| Host::parse(name).expect("a name under .invalid is a hostname"));
    let asking = settings.served_at().iter().map(|address| async {
        let [first, second] = &strangers;
        let heard = join(hear(settings, *address, first), hear(settings, *address, second)).await;
        heard.0.zip(heard.1).map(|(first, second)| (*address, [first, second]))
    });
    join_all(asking).await.into_iter().flatten().collect()
}

/// The first address that has something of its own for the host. What a site of this program left there a moment ago, in a
/// worker that is about to end, is nothing.
pub async fn hear_before(settings: &Settings, host: &Host, strangers: &Strangers) -> Option<AnsweredBefore> {
    let asking = strangers.iter().map(|(address, strange)| async {
        let web = SocketAddr::new(*address, settings.internet.http_port());
        let mut answered = hear(settings, *address, host).await?;
        if !has_its_own(host, &answered, strange) {
            return None;
        }
        sleep(SIDE_BY_SIDE).await;
        answered = hear(settings, *address, host).await?;
        if !has_its_own(host, &answered, strange) || is_our_own(web, host).await {
            return None;
        }
        Some(AnsweredBefore { host: host.clone(), address: web, status: answered.page.map(|page| page.status) })
    });
    join_all(asking).await.into_iter().flatten().next()
}

async fn is_our_own(address: SocketAddr, host: &Host) -> bool {
    let named = authority(host.as_str(), address.port(), 80);
    match timeout(PATIENCE, get(address, host.as_str(), &named, FINGERPRINT_PATH, None)).await {
        Ok(Ok(answer)) => is_fingerprint(String::from_utf8_lossy(&answer.body).trim()),
        _ => false,
    }
}

/// `None` where nobody takes connections, neither for http nor for https.
async fn hear(settings: &Settings, address: IpAddr, host: &Host) -> Option<Answered> {
    let (http, https) = (settings.internet.http_port(), settings.internet.https_port());
    let page = async {
        let named = authority(host.as_str(), http, 80);
        let asking = get(SocketAddr::new(address, http), host.as_str(), &named, "/", None);
        timeout(PATIENCE, asking).await.unwrap_or(Err(HttpError::Silent))
    };
    let certificate = async {
        // Whatever is shown is taken down, whether a root vouches for it or not.
        let roots = trust::roots(&settings.internet.trust_roots).ok()?;
        let shaking = shake_hands(SocketAddr::new(address, https), host, roots);
        match timeout(PATIENCE, shaking).await.ok()?.outcome {
            TlsOutcome::Shown { names, not_after, .. } => Some(CertificateAnswered { names, not_after }),
            TlsOutcome::Failed(_) | TlsOutcome::NoRoute => None,
        }
    };
    let (page, certificate) = join(page, certificate).await;
    let page = match page {
        Ok(answer) => Some(PageAnswered {
            status: answer.status,
            location: answer.header("location"),
            body: String::from_utf8_lossy(&answer.body).into_owned(),
        }),
        // It takes connections, and ends those for names that it does not know.
        Err(HttpError::Broken(_)) => None,
        Err(_) if certificate.is_some() => None,
        Err(_) => return None,
    };
    Some(Answered { page, certificate })
}

//! A real handshake with every address of this host, for every name: the certificate just installed, and verified.

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::{Duration, Instant};

use brightharbor_core::certificate::securing::Shown;
use brightharbor_core::certificate::{Certificate, CertificateSource};
use brightharbor_core::name::Host;
use brightharbor_core::site::Site;
use brightharbor_core::survey::TlsOutcome;

use super::WorkError;
use crate::harbor::Harbor;
use crate::probe::shake_hands;
use crate::trust::{self, Roots};

/// A reload is over by then.
const PATIENCE: Duration = Duration::from_secs(4);

/// Where the web server of this host answers for sites.
pub(super) fn web_addresses(harbor: &Harbor) -> Vec<IpAddr> {
    harbor.settings.served_at().to_vec()
}

/// For which of the site's hosts that the certificate covers it is shown; and what was seen for the others, in words.
pub(super) async fn verify(harbor: &Harbor, site: &Site, certificate: &Certificate) -> Result<Shown, WorkError> {
    let roots = trust::roots(&harbor.settings.internet.trust_roots)?;
    let deadline = Instant::now() + PATIENCE;
    let mut shown = Shown::default();
    for host in site.hostnames.iter().filter(|host| certificate.covers(host)) {
        match is_shown(harbor, host, certificate, &roots, deadline).await {
            Ok(()) => shown.hosts.push(host.clone()),
            Err(reason) => shown.others.push((host.clone(), reason)),
        }
    }
    Ok(shown)
}

/// Whether every address of this host shows it to those who ask for the host.
async fn is_shown(
    harbor: &Harbor,
    host: &Host,
    certificate: &Certificate,
    roots: &Roots,
    deadline: Instant,
) -> Result<(), String> {
    let is_stop_gap = certificate.source == CertificateSource::SelfSigned;
    // Who asks for an address gets to that one.
    let addresses = host.address().map_or_else(|| web_addresses(harbor), |own| vec![own]);
    let mut seen_at_all = false;
    for address in addresses {
        let address = SocketAddr::new(address, harbor.settings.internet.https_port());
        loop {
            let reason = match shake_hands(address, host, Arc::clone(roots)).await.outcome {
                TlsOutcome::NoRoute => break,
                // Nobody trusts a stop-gap: that it is the one shown is all that a handshake can verify.
                TlsOutcome::Shown { verified, not_after, .. }
                    if not_after == certificate.not_after && (verified.is_ok() || is_stop_gap) =>
                {
                    seen_at_all = true;
                    break;
                }
                TlsOutcome::Shown { verified: Ok(()), .. } => "another certificate is shown".to_string(),
                TlsOutcome::Shown { verified: Err(reason), .. } | TlsOutcome::Failed(reason) => reason,
            };
            if Instant::now() > deadline {
                return Err(format!("{address}: {reason}"));
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }
    if seen_at_all { Ok(()) } else { Err("no address of the web server can be reached from here to ask for it".into()) }
}

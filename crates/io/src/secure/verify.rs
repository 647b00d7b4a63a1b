//! A real handshake with every address of this host, for every name: the certificate just installed, and verified.

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::{Duration, Instant};

use brightharbor_core::certificate::{Certificate, CertificateSource};
use brightharbor_core::survey::TlsOutcome;

use super::WorkError;
use crate::harbor::Harbor;
use crate::probe::shake_hands;
use crate::trust;

/// A reload is over by then.
const PATIENCE: Duration = Duration::from_secs(4);

/// Where the web server of this host answers for sites.
pub(super) fn web_addresses(harbor: &Harbor) -> Vec<IpAddr> {
    let settings = &harbor.settings;
    if settings.web.listen.is_empty() { settings.host.addresses.clone() } else { settings.web.listen.clone() }
}

/// Whether the certificate is shown for all its names; else what was seen instead, in words.
pub(super) async fn verify(harbor: &Harbor, certificate: &Certificate) -> Result<Result<(), String>, WorkError> {
    let settings = &harbor.settings;
    let roots = trust::roots(&settings.internet.trust_roots)?;
    let deadline = Instant::now() + PATIENCE;
    let is_stop_gap = certificate.source == CertificateSource::SelfSigned;
    for name in &certificate.names {
        // Who asks for an address gets to that one.
        let addresses = name.address().map_or_else(|| web_addresses(harbor), |own| vec![own]);
        let mut shown = false;
        for address in addresses {
            let address = SocketAddr::new(address, settings.internet.https_port());
            loop {
                let seen = shake_hands(address, name, Arc::clone(&roots)).await;
                let reason = match seen.outcome {
                    TlsOutcome::NoRoute => break,
                    // Nobody trusts a stop-gap: that it is the one shown is all that a handshake can verify.
                    TlsOutcome::Shown { verified, not_after, .. }
                        if not_after == certificate.not_after && (verified.is_ok() || is_stop_gap) =>
                    {
                        shown = true;
                        break;
                    }
                    TlsOutcome::Shown { verified: Ok(()), .. } => "another certificate is shown".to_string(),
                    TlsOutcome::Shown { verified: Err(reason), .. } | TlsOutcome::Failed(reason) => reason,
                };
                if Instant::now() > deadline {
                    return Ok(Err(format!("{address} for {name}: {reason}")));
                }
                tokio::time::sleep(Duration::from_millis(50)).await;
            }
        }
        if !shown {
            return Ok(Err(format!("no address of the web server can be reached from here to ask for {name}")));
        }
    }
    Ok(Ok(()))
}

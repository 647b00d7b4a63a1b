//! A visitor of the demo: types a name, is sent along, and reads the page over a verified connection.

use std::collections::HashMap;

use brightharbor_core::harbor::Settings;
use brightharbor_core::name::Hostname;
use brightharbor_core::redirect::LandingEnd;
use brightharbor_core::survey::TlsOutcome;
use brightharbor_io::probe::{land, shake_hands};
use brightharbor_io::trust;

/// The way to the page in words; the error says where it ends.
pub async fn visit(settings: &Settings, hostname: &str) -> Result<String, String> {
    let name = Hostname::parse(hostname).map_err(|error| error.to_string())?;
    let roots = trust::roots(&settings.internet.trust_roots).map_err(|error| error.to_string())?;
    let ports = (settings.internet.http_port(), settings.internet.https_port());
    // The visitor's resolver may still have the old address: the story has its visitor come from another network.
    let addresses = HashMap::from([(hostname.to_string(), settings.host.addresses.clone())]);
    let start = format!("http://{hostname}:{}/", ports.0).parse().map_err(|_| "no URL")?;
    let landing = land(&start, addresses, &[], ports, &trust::client(roots.clone())).await;
    let LandingEnd::Page { url, status: 200 } = &landing.end else {
        return Err(format!("the visitor of {hostname} ends with {:?}", landing.end));
    };
    if !url.starts_with("https:") {
        return Err(format!("the visitor of {hostname} stays on {url}"));
    }
    let address = settings.host.addresses.first().ok_or("no address")?;
    let seen = shake_hands(std::net::SocketAddr::new(*address, ports.1), &name.into(), roots).await;
    let TlsOutcome::Shown { protocol, verified: Ok(()), sent, .. } = seen.outcome else {
        return Err(format!("the certificate of {hostname} does not verify: {:?}", seen.outcome));
    };
    let mut way: Vec<String> = landing.hops.iter().map(|hop| format!("{} ({})", hop.url, hop.status)).collect();
    way.push(format!("{url} (200)"));
    Ok(format!("{}\n{protocol}, a chain of {sent} certificates, verified", way.join("\n-> ")))
}

//! `certificate check`: what servers show over TLS, here or anywhere: chain, names, dates, versions, ciphers.

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

use brightharbor_core::certificate::{Installed, RevocationStatus, Served, StartTls, read_chain, rules};
use brightharbor_core::finding::Finding;
use brightharbor_core::harbor::Settings;
use brightharbor_core::name::Host;
use brightharbor_io::dns::resolve_all;
use brightharbor_io::harbor::Harbor;
use brightharbor_io::load;
use brightharbor_io::probe::{RevocationLists, look_at_served};
use brightharbor_io::survey::resolvers;
use brightharbor_io::trust::{self, Roots};
use clap::Args;
use clap::builder::{PossibleValuesParser, TypedValueParser};
use futures_util::{StreamExt, stream};
use serde_json::{Value, json};

use crate::commands::{Report, host};
use crate::error::{Error, Exit};
use crate::options::typed_address;
use crate::run::{Context, runtime_for_many};
use crate::show::human::{self, Page, table};
use crate::show::{Shown, counted, json};

/// Check what servers show over TLS: the chain as sent, names, dates, keys, versions and ciphers. Works without a harbor.
#[derive(Debug, Args)]
pub struct Check {
    /// Hosts, each with a port if it is not that of https.
    #[arg(required_unless_present = "all", value_name = "HOST[:PORT]")]
    hosts: Vec<String>,
    /// All hostnames of the harbor that have a certificate.
    #[arg(long, conflicts_with = "hosts")]
    all: bool,
    /// Look at this address, wherever the hosts lead.
    #[arg(long, value_name = "ADDRESS", value_parser = typed_address)]
    at: Option<IpAddr>,
    /// Begin in the clear by this protocol and change to TLS; with `none`, begin with TLS at any port. Without it, that is
    /// as usual at the ports 21, 25, 110, 143, 389, 587 and 5432.
    #[arg(long, value_name = "PROTOCOL", value_parser = protocol(), conflicts_with = "all")]
    starttls: Option<Protocol>,
}

/// A protocol that changes to TLS; or none, whatever is usual at the port.
#[derive(Debug, Clone, Copy)]
struct Protocol(Option<StartTls>);

fn protocol() -> impl TypedValueParser<Value = Protocol> {
    let words = StartTls::ALL.map(StartTls::word).into_iter().chain(["none"]);
    PossibleValuesParser::new(words)
        .map(|typed| Protocol(StartTls::ALL.into_iter().find(|protocol| protocol.word() == typed)))
}

/// A server that is looked at.
struct Target {
    host: Host,
    port: u16,
    start_tls: Option<StartTls>,
}

/// Servers that are looked at together; each is shaken hands with several times.
const AT_ONCE: usize = 400;
const MOST_ADDRESSES: usize = 4;

pub fn run(args: &Check, context: &Context) -> Report {
    let harbor = match context.open() {
        Ok(harbor) => Some(harbor),
        Err(error) if error.code == "no-harbor" => None,
        Err(error) => return Err(error),
    };
    let settings = harbor.as_ref().map(|harbor| harbor.settings.clone()).unwrap_or_default();
    let mut targets = Vec::with_capacity(args.hosts.len());
    for typed in &args.hosts {
        let (host, port) = target(typed, &settings)?;
        let start_tls = args.starttls.map_or_else(|| StartTls::usual_at(port), |Protocol(chosen)| chosen);
        targets.push(Target { host, port, start_tls });
    }
    if let (true, Some(harbor)) = (args.all, &harbor) {
        let covered = harbor.store.all_certificates()?.into_iter().flat_map(|certificate| certificate.names);
        let port = settings.internet.https_port();
        targets.extend(covered.map(|host| Target { host, port, start_tls: None }));
    }
    let roots = trust::roots(&settings.internet.trust_roots)?;
    let seen = runtime_for_many(targets.len())?.block_on(look_at_all(targets, args.at, &settings, &roots, context));
    let mut checked = Vec::new();
    for served in seen {
        let installed = installed(harbor.as_ref(), &served.host)?;
        let findings = rules::judge(&served, &installed);
        checked.push((served, findings));
    }
    Ok(Box::new(Checked { checked }))
}

/// `HOST`, `HOST:PORT`, `[ADDRESS]:PORT`.
fn target(typed: &str, settings: &Settings) -> Result<(Host, u16), Error> {
    let usual = settings.internet.https_port();
    if let Ok(name) = Host::parse(typed) {
        return Ok((name, usual));
    }
    match typed.rsplit_once(':').and_then(|(name, port)| Some((name, port.parse().ok().filter(|port| *port > 0)?))) {
        Some((name, port)) => Ok((host(name)?, port)),
        None => Ok((host(typed)?, usual)),
    }
}

async fn look_at_all(
    targets: Vec<Target>,
    at: Option<IpAddr>,
    settings: &Settings,
    roots: &Roots,
    context: &Context,
) -> Vec<Served> {
    let (count, mut seen) = (targets.len(), Vec::new());
    let resolvers = resolvers(settings);
    let lists = Arc::new(RevocationLists::of_one_command(settings));
    let looks = targets.into_iter().map(|target| {
        let (resolvers, roots, lists) = (resolvers.clone(), Arc::clone(roots), Arc::clone(&lists));
        let (name, port) = (target.host.clone(), target.port);
        let look = tokio::spawn(look_at_host(target, at, resolvers, roots, lists));
        async move { look.await.unwrap_or_else(|error| vec![broken_off(&name, port, &error.to_string())]) }
    });
    let mut looks = stream::iter(looks).buffered(AT_ONCE);
    while let Some(served) = looks.next().await {
        seen.extend(served);
        context.progress.counted("servers looked at", seen.len(), count);
    }
    seen
}

/// A look that came to nothing is reported like a server that showed nothing: no host is left out.
fn broken_off(name: &Host, port: u16, reason: &str) -> Served {
    let nowhere = SocketAddr::new(IpAddr::from([0, 0, 0, 0]), port);
    Served {
        failed: Some(format!("the look broke off: {reason}")),
        ..Served::unseen(name.as_str(), nowhere, brightharbor_io::clock::now())
    }
}

async fn look_at_host(
    Target { host: name, port, start_tls }: Target,
    at: Option<IpAddr>,
    resolvers: Vec<SocketAddr>,
    roots: Roots,
    lists: Arc<RevocationLists>,
) -> Vec<Served> {
    let mut addresses: Vec<IpAddr> = match (at.or(name.address()), name.dns_name()) {
        (Some(address), _) => vec![address],
        (None, None) => vec![],
        (None, Some(name)) => {
            let resolved = resolve_all(&resolvers, &name).await;
            resolved.iter().flat_map(|resolved| resolved.addresses.iter().map(|address| address.address)).collect()
        }
    };
    addresses.sort();
    addresses.dedup();
    addresses.truncate(MOST_ADDRESSES);
    if addresses.is_empty() {
        let nowhere = SocketAddr::new(IpAddr::from([0, 0, 0, 0]), port);
        return vec![Served::not_found(name.as_str(), nowhere, brightharbor_io::clock::now())];
    }
    let looks = addresses
        .into_iter()
        .map(|address| SocketAddr::new(address, port))
        .map(|address| look_at_served(address, name.as_str(), start_tls, Arc::clone(&roots), &lists));
    futures_util::future::join_all(looks).await.concat()
}

/// The leaf that is installed for a host of this harbor.
fn installed(harbor: Option<&Harbor>, host: &str) -> Result<Installed, Error> {
    let (Some(harbor), Ok(name)) = (harbor, Host::parse(host)) else { return Ok(Installed::default()) };
    let Some(site) = harbor.store.site_of(&name)? else { return Ok(Installed::default()) };
    let hsts = site.rules.hsts.filter(|_| site.is_forced(&name));
    let pem = site.certificate.and_then(|files| load::installed_chain(&files));
    let leaf = pem.and_then(|pem| read_chain(&pem).ok()).map(|chain| chain[0].der.clone());
    Ok(Installed { leaf, tls: Some(site.rules.tls), hsts, beside: site.hostnames })
}

struct Checked {
    checked: Vec<(Served, Vec<Finding>)>,
}

fn verdict(findings: &[Finding]) -> &'static str {
    match findings.first().map(|finding| finding.word()) {
        Some("fault") => "fault",
        Some("risk") => "risk",
        _ => "well",
    }
}

fn facts(served: &Served) -> Vec<(&'static str, String)> {
    let mut facts = Vec::new();
    if let Some(leaf) = served.chain.first() {
        facts.push(("covers", leaf.names.join(", ")));
        facts.push(("issuer", leaf.issuer.clone()));
        let (from, to) = (leaf.not_before.strftime("%Y-%m-%d"), leaf.not_after.strftime("%Y-%m-%d"));
        facts.push(("valid", format!("{from} to {to}")));
        facts.push(("key", leaf.key.clone()));
        let trusted = if served.verified.is_ok() { "trusted" } else { "not trusted" };
        facts.push(("chain", format!("{} sent, {trusted}", counted(served.chain.len(), "certificate"))));
        facts.push(("revocation", served.revocation.words()));
    }
    let versions: Vec<&str> = served.versions.iter().map(|version| version.words()).collect();
    if !versions.is_empty() {
        facts.push(("versions", versions.join(", ")));
    }
    if !served.suites.is_empty() {
        let words: Vec<&str> = served.suites.iter().map(|family| family.words()).collect();
        facts.push(("cipher suites", words.join(", ")));
    }
    if let Some(alpn) = &served.alpn {
        facts.push(("ALPN", alpn.clone()));
    }
    if let Some(protocol) = served.start_tls {
        facts.push(("STARTTLS", protocol.word().into()));
    }
    if served.speaks_http {
        let hsts = served.hsts.map_or("not set".into(), |seconds| format!("{} days", seconds / 86_400));
        facts.push(("HSTS", hsts));
    }
    if served.failed.is_none() {
        facts.push(("OCSP stapling", served.staple.as_ref().map_or("not offered".into(), RevocationStatus::words)));
        let nameless = match &served.without_name {
            None => "handshake refused".to_string(),
            Some(names) if names.is_empty() => "certificate without names".into(),
            Some(names) => format!("certificate for {}", names.join(", ")),
        };
        facts.push(("without SNI", nameless));
        if served.asks_for_client {
            facts.push(("client", "asked for a certificate of its own".into()));
        }
    }
    facts
}

fn revocation_document(status: &RevocationStatus) -> Value {
    json!({ "status": status.word(), "words": status.words() })
}

impl Shown for Checked {
    fn human(&self, page: &mut Page) {
        if self.checked.len() > 3 {
            let bad = self.checked.iter().filter(|(_, findings)| verdict(findings) != "well").count();
            page.heading(&format!("{}: {} not as they should be", counted(self.checked.len(), "server"), bad));
            page.blank();
            let rows =
                self.checked.iter().filter(|(_, findings)| verdict(findings) != "well").map(|(served, findings)| {
                    let mut codes: Vec<&str> = findings.iter().map(|finding| finding.code).collect();
                    codes.dedup();
                    vec![served.host.clone(), served.address.to_string(), verdict(findings).into(), codes.join(", ")]
                });
            return table(page, &["host", "address", "verdict", "findings"], rows.collect());
        }
        for (served, findings) in &self.checked {
            page.blank();
            let word = match verdict(findings) {
                "well" => "as it should be".to_string(),
                word => counted(findings.iter().filter(|finding| finding.word() == word).count(), word),
            };
            page.heading(&format!("{}: {word}", served.place()));
            human::findings(page, findings);
            for (name, text) in facts(served) {
                page.hanging(&format!("  {name:<13}  "), &text);
            }
        }
    }

    fn json(&self) -> Value {
        let document = |(served, findings): &(Served, Vec<Finding>)| {
            json!({
                "host": served.host,
                "address": (!served.address.ip().is_unspecified()).then(|| served.address.to_string()),
                "verdict": verdict(findings),
                "failed": served.failed,
                "starttls": served.start_tls,
                "asked_for": served.asked_for,
                "asks_for_client": served.asks_for_client,
                "trusted": served.verified.is_ok(),
                "names": served.chain.first().map(|leaf| &leaf.names),
                "issuer": served.chain.first().map(|leaf| &leaf.issuer),
                "not_after": served.chain.first().map(|leaf| leaf.not_after.to_string()),
                "key": served.chain.first().map(|leaf| &leaf.key),
                "sent": served.chain.len(),
                "versions": served.versions,
                "cipher_suites": served.suites,
                "weak_cipher": served.suites.iter().find(|family| family.is_weak()).map(|family| family.words()),
                "alpn": served.alpn,
                "staple": served.staple.as_ref().map(revocation_document),
                "revocation": revocation_document(&served.revocation),
                "hsts_seconds": served.hsts,
                "without_name": served.without_name,
                "findings": findings.iter().map(json::FindingDocument::from).collect::<Vec<_>>(),
            })
        };
        json!({ "command": "certificate check", "servers": self.checked.iter().map(document).collect::<Vec<_>>() })
    }

    fn exit(&self) -> Exit {
        let fault = self.checked.iter().any(|(_, findings)| verdict(findings) == "fault");
        if fault { Exit::Fault } else { Exit::Done }
    }
}

//! Signed zones of every usual kind on real servers, signed by BIND's own tools: Knot DNS as root, NSD as registry, BIND and
//! Knot DNS as nameservers. A validating unbound is the judge of what a validating resolver accepts.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::net::{Ipv4Addr, SocketAddr};
use std::path::Path;
use std::process::{Command, Stdio};

use serde_json::Value;

use super::internet::free_port;
use super::nameservers::{sign_zone, start_knot, start_nsd, start_unbound};
use super::servers::{Server, await_listener, need, open_folder};
use crate::coast::{brightharbor, run};

/// BIND listens only where an interface has its address.
const NS1: Ipv4Addr = Ipv4Addr::LOCALHOST;

/// What a validating resolver makes of a domain.
#[derive(Debug, PartialEq, Eq, Clone, Copy)]
enum Judge {
    Secure,
    Insecure,
    Refused,
}

/// A domain, how it is signed, and what is to be said of it.
struct Kind {
    domain: &'static str,
    algorithm: Option<&'static str>,
    /// Words for `dnssec-signzone`.
    words: &'static [&'static str],
    spoil: Spoil,
    codes: &'static [&'static str],
    judge: Judge,
}

#[derive(PartialEq)]
enum Spoil {
    Nothing,
    /// The address is another than the signed one.
    Address,
    /// The parent has the DS of another key.
    Ds,
    NoDs,
    /// The server has the zone without its signatures of addresses.
    Signatures,
    /// The NSEC records are gone. BIND takes the zone for one without signatures then.
    Denial,
}

const NSEC3: &[&str] = &["-3", "-", "-H", "0"];
const OPT_OUT: &[&str] = &["-3", "AABB", "-H", "5", "-A"];

#[rustfmt::skip]
const KINDS: [Kind; 11] = [
    Kind { domain: "gullrock.example", algorithm: Some("ECDSAP256SHA256"), words: &[], spoil: Spoil::Nothing, codes: &[], judge: Judge::Secure },
    Kind { domain: "lanternchoir.example", algorithm: Some("RSASHA256"), words: NSEC3, spoil: Spoil::Nothing, codes: &[], judge: Judge::Secure },
    Kind { domain: "berth.example", algorithm: Some("ED25519"), words: OPT_OUT, spoil: Spoil::Nothing, codes: &[], judge: Judge::Secure },
    Kind { domain: "crumbandtide.example", algorithm: None, words: &[], spoil: Spoil::Nothing, codes: &[], judge: Judge::Insecure },
    Kind { domain: "keel.example", algorithm: Some("ECDSAP384SHA384"), words: NSEC3, spoil: Spoil::NoDs, codes: &["ds-missing"], judge: Judge::Insecure },
    Kind { domain: "driftwood.example", algorithm: Some("ECDSAP384SHA384"), words: &[], spoil: Spoil::Address, codes: &["signature-wrong"], judge: Judge::Refused },
    Kind { domain: "windlass.example", algorithm: Some("RSASHA512"), words: NSEC3, spoil: Spoil::Ds, codes: &["ds-for-another-key"], judge: Judge::Refused },
    Kind { domain: "capstan.example", algorithm: Some("ECDSAP256SHA256"), words: &["-s", "now-864000", "-e", "now-3600"], spoil: Spoil::Nothing, codes: &["signature-expired"], judge: Judge::Refused },
    Kind { domain: "bollard.example", algorithm: Some("ED25519"), words: &["-s", "now+3600", "-e", "now+864000"], spoil: Spoil::Nothing, codes: &["signature-expired"], judge: Judge::Refused },
    Kind { domain: "halyard.example", algorithm: Some("ECDSAP256SHA256"), words: &[], spoil: Spoil::Signatures, codes: &["signature-missing"], judge: Judge::Refused },
    Kind { domain: "mooring.example", algorithm: Some("ECDSAP256SHA256"), words: &[], spoil: Spoil::Denial, codes: &["absence-unproven", "signature-missing"], judge: Judge::Refused },
];

struct Signed {
    folder: tempfile::TempDir,
    port: u16,
    root: Ipv4Addr,
    registry: Ipv4Addr,
    ns2: Ipv4Addr,
    resolver: Ipv4Addr,
    _servers: Vec<Server>,
}

impl Signed {
    /// `spoil_above`: the root has another key's DS for the zone above all domains.
    fn start(spoil_above: bool) -> Self {
        let seed = std::process::id() + u32::from(spoil_above);
        let (a, b) = (150 + (seed >> 8) as u8 % 50, seed as u8 & 0xfe);
        let at = |c: u8, d: u8| Ipv4Addr::new(127, a, b | c, d);
        let (root, registry, ns2, resolver) = (at(0, 1), at(0, 2), at(1, 5), at(0, 6));
        let mut signed =
            Self { folder: open_folder(), port: free_port(), root, registry, ns2, resolver, _servers: vec![] };
        signed.write_zones(spoil_above);
        let file = |zone: &str| signed.path().join(zone).display().to_string();
        let knot =
            |zone: &str| format!("  - domain: {zone}\n    file: {}\n", file(if zone == "." { "root" } else { zone }));
        let nsd = |zone: &str| format!("zone:\n  name: \"{zone}\"\n  zonefile: \"{}\"\n", file(zone));
        let home = signed.path().join("root.d");
        fs::create_dir(&home).unwrap();
        let domains: String = KINDS.iter().map(|kind| knot(kind.domain)).collect();
        let servers = vec![
            start_knot(&home, signed.socket(root), &format!("zone:\n{}", knot("."))).0,
            start_nsd(signed.path(), signed.socket(registry), &nsd("example")).0,
            start_knot(signed.path(), signed.socket(ns2), &format!("zone:\n{domains}")).0,
            signed.bind(),
            signed.unbound(),
        ];
        signed._servers = servers;
        signed
    }

    fn path(&self) -> &Path {
        self.folder.path()
    }

    fn socket(&self, address: Ipv4Addr) -> SocketAddr {
        (address, self.port).into()
    }

    fn write_zones(&self, spoil_above: bool) {
        let (root, registry, ns2) = (self.root, self.registry, self.ns2);
        let head = "$TTL 3600\n@ SOA ns1.example. hostmaster.example. 7 14400 1800 2419200 300\n";
        let write = |name: &str, text: &str| fs::write(self.path().join(name), text).unwrap();
        let mut delegations = String::new();
        for kind in &KINDS {
            // Capital letters in the name behind the apex are signed as they are (RFC 6840 section 5.1).
            write(
                kind.domain,
                &format!(
                    "{head}@ NS ns1.example.\n@ NS ns2.example.\n@ A {ns2}\nwww A {ns2}\n*.pier A {ns2}\nAnchor A {ns2}\n"
                ),
            );
            delegations.push_str(&format!("{0}. NS ns1.example.\n{0}. NS ns2.example.\n", kind.domain));
            if let Some(algorithm) = kind.algorithm {
                let ds = sign_zone(self.path(), kind.domain, kind.domain, algorithm, kind.words);
                match kind.spoil {
                    Spoil::NoDs => {}
                    Spoil::Ds => delegations.push_str(&another(&ds)),
                    _ => delegations.push_str(&ds),
                }
            }
            let path = self.path().join(kind.domain);
            let text = fs::read_to_string(&path).unwrap();
            fs::write(path, spoilt(&text, &kind.spoil)).unwrap();
        }
        write(
            "example",
            &format!("{head}@ NS a.nic.example.\na.nic A {registry}\nns1 A {NS1}\nns2 A {ns2}\n{delegations}"),
        );
        let ds = sign_zone(self.path(), "example", "example", "ECDSAP256SHA256", NSEC3);
        let ds = if spoil_above { another(&ds) } else { ds };
        write(
            "root",
            &format!(
                "{head}@ NS a.root.example.\na.root.example. A {root}\nexample. NS a.nic.example.\na.nic.example. A {registry}\n{ds}"
            ),
        );
        let anchor = sign_zone(self.path(), "root", ".", "RSASHA256", &[]);
        write("root.key", &anchor);
    }

    fn bind(&self) -> Server {
        let home = self.path().display();
        let zones: String = KINDS
            .iter()
            .map(|kind| {
                format!("zone \"{0}\" {{ type primary; file \"{home}/{0}\"; check-names ignore; }};\n", kind.domain)
            })
            .collect();
        let main = format!(
            "options {{ directory \"{home}\"; pid-file \"{home}/named.pid\"; session-keyfile \"{home}/session.key\";\n\
             listen-on port {port} {{ {NS1}; }}; listen-on-v6 {{ none; }}; recursion no; notify no; allow-transfer {{ none; }};\n\
             managed-keys-directory \"{home}\"; dnssec-validation no; zone-statistics no; }};\ncontrols {{ }};\n{zones}",
            port = self.port,
        );
        let file = self.path().join("named.conf");
        fs::write(&file, main).unwrap();
        let server = Server::spawn(
            Command::new(need("named", "bind9")).arg("-c").arg(&file).args(["-f", "-n", "1"]).stderr(Stdio::null()),
        );
        await_listener(self.socket(NS1));
        server
    }

    fn unbound(&self) -> Server {
        let server = |kind: &Kind| if kind.spoil == Spoil::Denial { NS1 } else { self.ns2 };
        let mut zones = vec![(".", self.socket(self.root)), ("example", self.socket(self.registry))];
        zones.extend(KINDS.iter().map(|kind| (kind.domain, self.socket(server(kind)))));
        let anchor = self.path().join("root.key").display().to_string();
        start_unbound(self.path(), self.socket(self.resolver), &anchor, &zones)
    }

    /// What unbound makes of the domain's address.
    fn judged(&self, domain: &str) -> Judge {
        let words =
            [format!("@{}", self.resolver), "-p".into(), self.port.to_string(), "+tries=2".into(), domain.into()];
        let done = Command::new(need("dig", "bind9-dnsutils")).args(words).args(["A", "+adflag"]).output().unwrap();
        let text = String::from_utf8(done.stdout).unwrap();
        let flags =
            text.lines().find(|line| line.starts_with(";; flags:")).unwrap_or_else(|| panic!("{domain}: {text}"));
        match (text.contains("status: SERVFAIL"), text.contains("status: NOERROR"), flags.contains(" ad")) {
            (true, ..) => Judge::Refused,
            (_, true, true) => Judge::Secure,
            (_, true, false) => Judge::Insecure,
            _ => panic!("{domain}: {text}"),
        }
    }

    fn check(&self) -> BTreeMap<String, Value> {
        let mut command = brightharbor();
        command.env("BRIGHTHARBOR", self.path().join("harbor"));
        command.args(["delegation", "check", "--json", "--root-server", &self.socket(self.root).to_string()]);
        command.arg("--trust-anchor").arg(self.path().join("root.key"));
        let done = run(command.args(KINDS.iter().map(|kind| kind.domain)));
        let checked: Value = serde_json::from_str(&done.stdout).unwrap_or_else(|error| panic!("{error}: {done:?}"));
        let all = checked["domains"].as_array().unwrap().iter();
        all.map(|one| (one["domain"].as_str().unwrap().to_string(), one.clone())).collect()
    }
}

/// The DS record of a key that nobody has.
fn another(ds: &str) -> String {
    let mut words: Vec<String> = ds.split_whitespace().map(String::from).collect();
    let digest = words.iter_mut().rev().find(|word| word.len() >= 8).unwrap();
    let flipped = if digest.starts_with('0') { "1" } else { "0" };
    digest.replace_range(0..1, flipped);
    words.join(" ") + "\n"
}

/// The signed zone's text, spoilt in one way.
fn spoilt(text: &str, spoil: &Spoil) -> String {
    let covering = match spoil {
        // The apex stands first.
        Spoil::Address => return text.replacen("A\t127.", "A\t203.", 1),
        Spoil::Signatures => " RRSIG A ",
        Spoil::Denial => " RRSIG NSEC ",
        _ => return text.to_string(),
    };
    let (mut kept, mut depth, mut dropping) = (String::new(), 0_i32, false);
    for line in text.lines() {
        if depth == 0 {
            let fields = line.split_whitespace().collect::<Vec<_>>().join(" ");
            let is_nsec = *spoil == Spoil::Denial && fields.contains(" NSEC ");
            dropping = fields.contains(covering) || fields.starts_with(&covering[1..]) || is_nsec;
        }
        depth += line.matches('(').count() as i32 - line.matches(')').count() as i32;
        if !dropping {
            kept.push_str(line);
            kept.push('\n');
        }
    }
    kept
}

fn codes(one: &Value) -> BTreeSet<String> {
    one["findings"].as_array().unwrap().iter().map(|f| f["code"].as_str().unwrap().to_string()).collect()
}

#[test]
fn signed_zones_are_judged_as_a_validating_resolver_does() {
    let signed = Signed::start(false);
    let checked = signed.check();
    for kind in &KINDS {
        let (domain, one) = (kind.domain, &checked[kind.domain]);
        let expected: BTreeSet<String> = kind.codes.iter().map(|code| code.to_string()).collect();
        assert_eq!(codes(one), expected, "{domain}: {one:#}");
        assert_eq!(signed.judged(domain), kind.judge, "what unbound makes of {domain}");
        let refused = one["verdict"] == "validators-refuse";
        assert_eq!(refused, kind.judge == Judge::Refused, "{domain}: {one:#}");
        let secure = if kind.judge == Judge::Insecure { "insecure" } else { "secure" };
        assert_eq!(one["chain"]["state"], secure, "{domain}: {one:#}");
    }
}

#[test]
fn a_validating_resolver_that_refuses_is_told_from_one_that_fails() {
    let signed = Signed::start(false);
    let homes = signed.path().join("homes");
    fs::create_dir(&homes).unwrap();
    let settings = format!(
        "[host]\naddresses = [\"{address}\"]\n[sites]\nhome = \"{homes}/{{account}}\"\n[internet]\nroot-servers = [\"{root}\"]\n\
         resolvers = [\"{resolver}\"]\ndns-port = {port}\nhttp-port = 9\nhttps-port = 9\n",
        address = signed.ns2,
        homes = homes.display(),
        root = signed.root,
        resolver = signed.resolver,
        port = signed.port,
    );
    let file = signed.path().join("settings.toml");
    fs::write(&file, settings).unwrap();
    let harbored = || {
        let mut command = brightharbor();
        command.env("BRIGHTHARBOR", signed.path().join("harbor"));
        command
    };
    // Nobody serves DNS or web for it here: `init` says so.
    run(harbored().args(["init", "--settings"]).arg(&file)).expect(3);
    let resolves = |domain: &str| {
        let done = run(harbored().args(["survey", domain, "--json"]));
        let survey: Value = serde_json::from_str(&done.stdout).unwrap_or_else(|error| panic!("{error}: {done:?}"));
        let links = survey["surveys"][0]["links"].as_array().unwrap_or_else(|| panic!("{survey:#}")).clone();
        let link = links.iter().find(|link| link["link"] == "resolves").unwrap_or_else(|| panic!("{survey:#}")).clone();
        (link["state"].as_str().unwrap().to_string(), link["code"].as_str().unwrap().to_string())
    };
    let broken = ("broken".to_string(), "resolver-refuses-signatures".to_string());
    assert_eq!(resolves("halyard.example"), broken);
    assert_eq!(resolves("capstan.example"), broken);
    assert_eq!(resolves("gullrock.example"), ("holds".into(), "resolves".into()));
}

#[test]
fn a_zone_above_that_cannot_be_verified_is_named() {
    let signed = Signed::start(true);
    for (domain, one) in signed.check() {
        assert!(codes(&one).contains("chain-broken"), "{domain}: {one:#}");
        assert_eq!(
            (&one["verdict"], &one["chain"]["zone"]),
            (&"validators-refuse".into(), &"example.".into()),
            "{one:#}"
        );
        assert_eq!(signed.judged(&domain), Judge::Refused, "what unbound makes of {domain}");
    }
}

//! A miniature internet of real servers alone: BIND as root, Knot DNS as registry, NSD and Knot DNS as nameservers,
//! unbound as resolver. Good domains, signed and unsigned, have no findings; broken ones have theirs.

use std::collections::BTreeSet;
use std::fs;
use std::net::{Ipv4Addr, SocketAddr};
use std::path::Path;
use std::process::{Command, Stdio};

use serde_json::Value;

use super::nameservers::{sign_zone, start_knot, start_nsd, start_unbound};
use super::servers::{Server, await_listener, need, open_folder};
use crate::coast::{Run, brightharbor, run};

struct Internet {
    folder: tempfile::TempDir,
    port: u16,
    addresses: Addresses,
    _servers: Vec<Server>,
}

#[derive(Clone, Copy)]
struct Addresses {
    registry: Ipv4Addr,
    ns1: Ipv4Addr,
    ns2: Ipv4Addr,
    resolver: Ipv4Addr,
}

/// BIND listens only where an interface has its address.
const ROOT: Ipv4Addr = Ipv4Addr::LOCALHOST;
const START: &str = "hostmaster.saltmarsh.example.";

impl Internet {
    fn start() -> Self {
        let folder = open_folder();
        let seed = std::process::id();
        let (a, b) = (200 + (seed >> 8) as u8 % 50, seed as u8 & 0xfe);
        let at = |c: u8, d: u8| Ipv4Addr::new(127, a, b | c, d);
        let addresses = Addresses { registry: at(0, 2), ns1: at(0, 4), ns2: at(1, 5), resolver: at(0, 6) };
        let port = free_port();
        let mut internet = Self { folder, port, addresses, _servers: vec![] };
        internet.write_zones();
        let servers = vec![
            internet.bind_as_root(),
            internet.knot("registry", addresses.registry, &["example", "saltmarsh.example"]),
            internet.nsd(addresses.ns1),
            internet.knot("second", addresses.ns2, &SERVED_BY_BOTH),
            internet.unbound(),
        ];
        internet._servers = servers;
        internet
    }

    fn path(&self) -> &Path {
        self.folder.path()
    }

    fn socket(&self, address: Ipv4Addr) -> SocketAddr {
        (address, self.port).into()
    }

    fn write_zones(&self) {
        let Addresses { registry, ns1, ns2, .. } = self.addresses;
        let write = |name: &str, text: String| fs::write(self.path().join(name), text).unwrap();
        let head =
            |serial: u32| format!("$TTL 3600\n@ SOA ns1.saltmarsh.example. {START} {serial} 14400 1800 2419200 300\n");
        let both = "@ NS ns1.saltmarsh.example.\n@ NS ns2.oldquay.example.\n";
        write(
            "root",
            format!(
                "{}@ NS a.root.example.\na.root.example. A {ROOT}\nexample. NS a.nic.example.\na.nic.example. A {registry}\n",
                head(1)
            ),
        );
        write("saltmarsh.example", format!("{}{both}ns1 A {ns1}\nwww A {ns1}\n", head(1)));
        write("oldquay.example", format!("{}{both}ns2 A {ns2}\n", head(1)));
        for domain in
            ["lanternchoir.example", "gullrock.example", "crumbandtide.example", "berth.example", "driftwood.example"]
        {
            write(domain, format!("{}{both}@ A {ns1}\nwww A {ns1}\n", head(7)));
        }
        let mail =
            "@ MX 10 mail\n@ TXT \"v=spf1 mx -all\"\n_dmarc TXT \"v=DMARC1; p=none\"\n_imaps._tcp SRV 0 1 993 mail\n";
        write(
            "lanternchoir.example",
            format!("{}{both}@ A {ns1}\nwww A {ns1}\n{mail}mail A {ns2}\n* A {registry}\n", head(7)),
        );
        // The second nameserver has an older version of this one.
        write("second.berth.example", format!("{}{both}@ A {ns1}\nwww A {ns1}\n", head(5)));
        let mut ds = String::new();
        for (domain, ends) in [("gullrock.example", "+2592000"), ("driftwood.example", "-3600")] {
            ds.push_str(&self.sign(domain, ends));
        }
        let mut delegations = String::new();
        for domain in SERVED_BY_BOTH.iter().chain(&["crumbandtide.example", "saltmarsh.example", "oldquay.example"]) {
            delegations.push_str(&format!("{domain}. NS ns1.saltmarsh.example.\n{domain}. NS ns2.oldquay.example.\n"));
        }
        write(
            "example",
            format!(
                "{}@ NS a.nic.example.\na.nic A {registry}\n{delegations}{ds}ns1.saltmarsh A {ns1}\nns2.oldquay A {ns2}\n",
                head(9)
            ),
        );
    }

    /// Signs a zone with fresh keys until `ends` seconds from now. Gives its DS record.
    fn sign(&self, domain: &str, ends: &str) -> String {
        let start = if ends.starts_with('-') { "-864000" } else { "-86400" };
        let (from, to) = (format!("now{start}"), format!("now{ends}"));
        sign_zone(self.path(), domain, domain, "ECDSAP256SHA256", &["-s", &from, "-e", &to])
    }

    fn bind_as_root(&self) -> Server {
        let home = self.path().display();
        let main = format!(
            "options {{ directory \"{home}\"; pid-file \"{home}/root.pid\"; session-keyfile \"{home}/root.key\";\n\
             listen-on port {port} {{ {ROOT}; }}; listen-on-v6 {{ none; }}; recursion no; notify no; allow-transfer {{ none; }};\n\
             managed-keys-directory \"{home}\"; dnssec-validation no; }};\ncontrols {{ }};\n\
             zone \".\" {{ type primary; file \"{home}/root\"; }};\n",
            port = self.port,
        );
        let file = self.path().join("root.conf");
        fs::write(&file, main).unwrap();
        let server = Server::spawn(
            Command::new(need("named", "bind9")).arg("-c").arg(&file).args(["-f", "-n", "1"]).stderr(Stdio::null()),
        );
        await_listener(self.socket(ROOT));
        server
    }

    fn knot(&self, name: &str, address: Ipv4Addr, zones: &[&str]) -> Server {
        let folder = self.path().join(name);
        fs::create_dir(&folder).unwrap();
        let mut listed = String::from("zone:\n");
        for zone in zones {
            let other = self.path().join(format!("{name}.{zone}"));
            let file = if other.exists() { other } else { self.path().join(zone) };
            listed.push_str(&format!("  - domain: {zone}\n    file: {}\n", file.display()));
        }
        start_knot(&folder, self.socket(address), &listed).0
    }

    fn nsd(&self, address: Ipv4Addr) -> Server {
        let zones = SERVED_BY_BOTH.iter().chain(&["saltmarsh.example", "crumbandtide.example"]);
        let listed: String = zones
            .map(|zone| format!("zone:\n  name: \"{zone}\"\n  zonefile: \"{}\"\n", self.path().join(zone).display()))
            .collect();
        start_nsd(self.path(), self.socket(address), &listed).0
    }

    fn unbound(&self) -> Server {
        let Addresses { ns1, resolver, .. } = self.addresses;
        start_unbound(self.path(), self.socket(resolver), "", &[("lanternchoir.example", self.socket(ns1))])
    }

    /// A harbor in this world, by its commands.
    fn harbor(&self, address: &str, nameserver: &str) -> impl Fn(&[&str]) -> Run + use<> {
        let home = self.path().display().to_string();
        let settings = format!(
            "[host]\naddresses = [\"{address}\"]\nnameservers = [\"{nameserver}\"]\n[sites]\nhome = \"{home}/{{account}}\"\n\
             [internet]\nroot-servers = [\"{ROOT}\"]\nresolvers = [\"127.0.0.1:9\"]\ndns-port = {port}\nhttp-port = 9\n\
             https-port = 9\n",
            port = self.port,
        );
        let (file, harbor) = (self.path().join("settings.toml"), self.path().join("harbor"));
        fs::write(&file, settings).unwrap();
        let command = move |words: &[&str]| run(brightharbor().args(words).env("BRIGHTHARBOR", &harbor));
        assert!([0, 3].contains(&command(&["init", "--settings", file.to_str().unwrap()]).exit));
        command
    }

    fn check(&self, domains: &[&str]) -> Value {
        let root = self.socket(ROOT).to_string();
        let words = [&["delegation", "check", "--json", "--root-server", &root][..], domains].concat();
        let Run { stdout, stderr, .. } =
            run(brightharbor().args(words).env("BRIGHTHARBOR", self.path().join("harbor")));
        serde_json::from_str(&stdout).unwrap_or_else(|error| panic!("{error}: {stdout} {stderr}"))
    }
}

/// Free over UDP and TCP, and below the ports that connections of other tests are given meanwhile.
pub(super) fn free_port() -> u16 {
    use std::sync::atomic::{AtomicU16, Ordering};
    static NEXT: AtomicU16 = AtomicU16::new(0);
    let start = (std::process::id() % 9_000) as u16;
    let candidates = (0..9_000).map(|_| 20_000 + (start + NEXT.fetch_add(1, Ordering::Relaxed)) % 9_000);
    let is_free = |port: &u16| {
        std::net::UdpSocket::bind((ROOT, *port)).is_ok() && std::net::TcpListener::bind((ROOT, *port)).is_ok()
    };
    candidates.into_iter().find(is_free).expect("one of 9,000 ports is free")
}

/// On NSD and on the second Knot DNS.
const SERVED_BY_BOTH: [&str; 5] =
    ["oldquay.example", "lanternchoir.example", "gullrock.example", "berth.example", "driftwood.example"];

fn codes(checked: &Value, domain: &str) -> BTreeSet<String> {
    let all = checked["domains"].as_array().unwrap();
    let one = all.iter().find(|one| one["domain"] == domain).unwrap_or_else(|| panic!("{checked}"));
    one["findings"].as_array().unwrap().iter().map(|f| f["code"].as_str().unwrap().to_string()).collect()
}

#[test]
fn good_and_broken_delegations_on_real_servers() {
    let internet = Internet::start();
    let domains = [
        "lanternchoir.example",
        "gullrock.example",
        "crumbandtide.example",
        "berth.example",
        "driftwood.example",
        "nobody.example",
    ];
    let checked = internet.check(&domains);
    let found = |domain| codes(&checked, domain).into_iter().collect::<Vec<_>>();
    assert_eq!(found("lanternchoir.example"), [""; 0], "unsigned and good: {checked}");
    assert_eq!(found("gullrock.example"), [""; 0], "signed and good: {checked}");
    assert_eq!(found("crumbandtide.example"), ["server-refuses"]);
    assert_eq!(found("berth.example"), ["serials-differ"]);
    assert_eq!(found("driftwood.example"), ["signature-expired"]);
    assert_eq!(found("nobody.example"), ["not-registered"]);
    let signed = checked["domains"].as_array().unwrap().iter().find(|one| one["domain"] == "gullrock.example").unwrap();
    assert_eq!(signed["ds"].as_array().unwrap().len(), 1);
    let keys = signed["comparison"].as_array().unwrap().iter().find(|line| line["what"] == "keys").unwrap();
    assert!(keys["zone"].as_str().unwrap().ends_with(", fits"), "{keys}");
    for server in signed["nameservers"].as_array().unwrap() {
        assert_eq!(server["servers"][0]["state"], "authoritative");
    }
}

#[test]
fn a_domain_on_other_peoples_servers_brings_its_mail_along() {
    let internet = Internet::start();
    let command = internet.harbor("192.0.2.10", "ns1.quay.example.");
    command(&["account", "add", "choir", "--email", "choir@saltmarsh.example"]).expect(0);
    command(&["attach", "lanternchoir.example", "--account", "choir"]).expect(3);
    let zone = fs::read_to_string(internet.path().join("harbor/zones/lanternchoir.example.zone")).unwrap();
    let (_, carried) = zone.split_once("; Carried over from").unwrap_or_else(|| panic!("{zone}"));
    let of = |owner: &str| {
        let full = format!("{owner}lanternchoir.example. ");
        carried
            .lines()
            .filter(|line| line.starts_with(&full))
            .map(|line| line[full.len()..].to_string())
            .collect::<Vec<_>>()
    };
    assert_eq!(of(""), ["3600 IN MX 10 mail.lanternchoir.example.", "3600 IN TXT \"v=spf1 mx -all\""]);
    assert_eq!(of("*."), [format!("3600 IN A {}", internet.addresses.registry)], "the wildcard is one record");
    assert_eq!(of("mail."), [format!("3600 IN A {}", internet.addresses.ns2)]);
    assert_eq!(of("_imaps._tcp."), ["3600 IN SRV 0 1 993 mail.lanternchoir.example."]);
    assert_eq!(carried.lines().filter(|line| line.contains(" IN ")).count(), 6, "{carried}");
    let compared = command(&["zone", "compare", "lanternchoir.example"]).expect(0);
    assert!(compared.contains("no records of") && compared.contains("served here"), "{compared}");
    // A signed zone keeps what it has but its keys, and says that the DS records go first.
    let signed = command(&["attach", "gullrock.example", "--account", "choir"]).expect(3);
    assert!(signed.contains("have its DS records removed before its nameservers change"), "{signed}");
    let zone = fs::read_to_string(internet.path().join("harbor/zones/gullrock.example.zone")).unwrap();
    assert!(!zone.contains("RRSIG") && !zone.contains("NSEC") && !zone.contains("DNSKEY"), "{zone}");
}

#[test]
fn a_real_resolver_tells_how_far_a_change_has_spread() {
    let internet = Internet::start();
    let Addresses { ns1, resolver, .. } = internet.addresses;
    let command = internet.harbor(&ns1.to_string(), "ns1.saltmarsh.example.");
    let asked = internet.socket(resolver).to_string();
    let spread = || -> Value {
        let done = command(&["survey", "www.lanternchoir.example", "--json", "--resolvers", &asked]);
        serde_json::from_str::<Value>(&done.stdout).unwrap_or_else(|error| panic!("{error}: {done:?}"))["spreads"][0]
            .clone()
    };
    let before = spread();
    assert_eq!((&before["resolvers"][0]["has"], &before["caught_up"]), (&"current".into(), &1.into()), "{before}");
    // Both nameservers get a new version; the resolver keeps the old one for what is left of an hour.
    let zone = fs::read_to_string(internet.path().join("lanternchoir.example")).unwrap();
    let zone =
        zone.replace(&format!("www A {ns1}"), &format!("www A {}", internet.addresses.registry)).replace(" 7 ", " 8 ");
    fs::write(internet.path().join("lanternchoir.example"), zone).unwrap();
    let config = internet.path().join("nsd/nsd.conf");
    let done = Command::new(need("nsd-control", "nsd"))
        .arg("-c")
        .arg(config)
        .args(["reload", "lanternchoir.example"])
        .output();
    assert!(done.unwrap().status.success());
    let socket = internet.path().join("second/knot/knot.sock");
    let done = Command::new(need("knotc", "knot"))
        .arg("-s")
        .arg(socket)
        .args(["-b", "zone-reload", "lanternchoir.example"])
        .output();
    assert!(done.unwrap().status.success());
    let deadline = std::time::Instant::now() + std::time::Duration::from_secs(10);
    let after = loop {
        let after = spread();
        if after["current"] != before["current"] || std::time::Instant::now() > deadline {
            break after;
        }
        std::thread::sleep(std::time::Duration::from_millis(200));
    };
    assert_eq!((&after["resolvers"][0]["has"], &after["caught_up"]), (&"old".into(), &0.into()), "{after}");
    let until: jiff::Timestamp = after["until"].as_str().unwrap().parse().unwrap();
    let left = until.duration_since(jiff::Timestamp::now()).as_secs();
    assert!((3_500..=3_601).contains(&left), "{left}");
}

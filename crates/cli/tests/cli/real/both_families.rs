//! Nameservers and hosts with addresses of both families, with one alone, and with one that fails: on real servers.

use std::fs;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::path::Path;

use serde_json::{Value, json};

use super::internet::free_port;
use super::ipv6::Network;
use super::nameservers::{start_knot, start_nsd};
use super::servers::{Server, open_folder};
use super::voyage::Port;
use crate::coast::{brightharbor, run};

const ROOT: [IpAddr; 2] = [v4(1), v6(1)];
const REGISTRY: IpAddr = v6(2);
const NS1: [IpAddr; 2] = [v4(4), v6(4)];
/// It has an address of IPv6 alone.
const NS2: IpAddr = v6(5);
/// It answers over IPv4, and at its address of IPv6 nobody listens.
const NS3: [IpAddr; 2] = [v4(6), v6(6)];

const fn v4(last: u8) -> IpAddr {
    IpAddr::V4(Ipv4Addr::new(127, 66, 6, last))
}

const fn v6(last: u16) -> IpAddr {
    IpAddr::V6(Ipv6Addr::new(0xfd5a, 0x66, 6, 1, 0, 0, 0, last))
}

const GOOD: &str = "gullrock.example";
const HALF_CLOSED: &str = "lanternchoir.example";
const HALF_GLUE: &str = "crumbandtide.example";

fn address_records(name: &str, addresses: &[IpAddr]) -> String {
    let record = |address: &IpAddr| {
        let kind = if address.is_ipv4() { "A" } else { "AAAA" };
        format!("{name} {kind} {address}\n")
    };
    addresses.iter().map(record).collect()
}

fn write_zones(folder: &Path) {
    let head = "$TTL 3600\n@ SOA ns1.saltmarsh.example. hostmaster.saltmarsh.example. 7 14400 1800 2419200 300\n";
    let write = |name: &str, text: String| fs::write(folder.join(name), format!("{head}{text}")).unwrap();
    let root = address_records("a.root.example.", &ROOT);
    let registry = address_records("a.nic.example.", &[REGISTRY]);
    write("root", format!("@ NS a.root.example.\n{root}example. NS a.nic.example.\n{registry}"));
    let (ns1, ns2, ns3) = (
        address_records("ns1.saltmarsh", &NS1),
        address_records("ns2.saltmarsh", &[NS2]),
        address_records("ns3.saltmarsh", &NS3),
    );
    let delegated = |domain: &str, names: [&str; 2]| names.map(|name| format!("{domain}. NS {name}\n")).concat();
    let (first, second, third) = ("ns1.saltmarsh.example.", "ns2.saltmarsh.example.", "ns3.saltmarsh.example.");
    // The first nameserver of this one has its IPv4 address alone at the registry.
    let own = "ns1.crumbandtide.example.";
    let glue = address_records(own, &NS1[..1]);
    write(
        "example",
        [
            "@ NS a.nic.example.\n".to_string(),
            registry.clone(),
            delegated("saltmarsh.example", [first, second]),
            ns1,
            ns2,
            ns3,
            delegated(GOOD, [first, second]),
            delegated(HALF_CLOSED, [first, third]),
            delegated(HALF_GLUE, [own, second]),
            glue,
        ]
        .concat(),
    );
    let hosts =
        format!("{}{}{}", address_records("ns1", &NS1), address_records("ns2", &[NS2]), address_records("ns3", &NS3));
    write("saltmarsh.example", format!("@ NS {first}\n@ NS {second}\n{hosts}"));
    write(GOOD, format!("@ NS {first}\n@ NS {second}\n@ A 127.66.6.10\n@ AAAA fd5a:66:6:1::10\n"));
    write(HALF_CLOSED, format!("@ NS {first}\n@ NS {third}\n@ A 127.66.6.10\n"));
    write(HALF_GLUE, format!("@ NS {own}\n@ NS {second}\n@ A 127.66.6.10\n{}", address_records("ns1", &NS1)));
}

/// A server for each address, so that each can be left out.
fn start_all(folder: &Path, port: u16) -> Vec<Server> {
    let knot = |zones: &[&str]| {
        let zone = |zone: &&str| {
            let file = if *zone == "." { "root" } else { zone };
            format!("  - domain: {zone}\n    file: {}\n", folder.join(file).display())
        };
        format!("zone:\n{}", zones.iter().map(zone).collect::<String>())
    };
    let nsd = |zones: &[&str]| {
        let zone =
            |zone: &&str| format!("zone:\n  name: \"{zone}\"\n  zonefile: \"{}\"\n", folder.join(zone).display());
        zones.iter().map(zone).collect::<String>()
    };
    let place = |name: &str| {
        let home = folder.join(name);
        fs::create_dir(&home).unwrap();
        home
    };
    let at = |address: IpAddr| SocketAddr::new(address, port);
    let all = ["saltmarsh.example", GOOD, HALF_CLOSED, HALF_GLUE];
    vec![
        start_knot(&place("root4"), at(ROOT[0]), &knot(&["."])).0,
        start_knot(&place("root6"), at(ROOT[1]), &knot(&["."])).0,
        start_knot(&place("registry"), at(REGISTRY), &knot(&["example"])).0,
        start_nsd(&place("first4"), at(NS1[0]), &nsd(&all)).0,
        start_nsd(&place("first6"), at(NS1[1]), &nsd(&all)).0,
        start_knot(&place("second"), at(NS2), &knot(&all)).0,
        start_nsd(&place("third4"), at(NS3[0]), &nsd(&all)).0,
    ]
}

/// But that all names lie under one domain, and that the start of authority names another.
fn codes(one: &Value) -> Vec<&str> {
    let codes = one["findings"].as_array().unwrap().iter().map(|finding| finding["code"].as_str().unwrap());
    codes.filter(|code| !["one-nameserver-domain", "primary-not-in-set"].contains(code)).collect()
}

/// Where there is no such network, the same binary runs this test once more inside of one.
#[test]
fn each_family_of_a_nameserver_is_judged_by_itself() {
    if !Network::V6.is_here() {
        return Network::V6.run_again(&["real::both_families::each_family_of_a_nameserver_is_judged_by_itself"]);
    }
    let (folder, port) = (open_folder(), free_port());
    write_zones(folder.path());
    let _servers = start_all(folder.path(), port);
    let check = |domain: &str| {
        let mut command = brightharbor();
        command.env("BRIGHTHARBOR", folder.path().join("harbor")).args(["delegation", "check", domain, "--json"]);
        for root in ROOT {
            command.args(["--root-server", &SocketAddr::new(root, port).to_string()]);
        }
        let done = run(&mut command);
        let checked: Value = serde_json::from_str(&done.stdout).unwrap_or_else(|error| panic!("{error}: {done:?}"));
        checked["domains"][0].clone()
    };
    let good = check(GOOD);
    assert_eq!((&good["verdict"], codes(&good).len()), (&json!("well"), 0), "{good:#}");
    let glue = |checked: &Value, name: &str| {
        let all = checked["nameservers"].as_array().unwrap();
        let of_name = all.iter().find(|nameserver| nameserver["name"] == name).unwrap();
        of_name["servers"].as_array().unwrap().len()
    };
    assert_eq!((glue(&good, "ns1.saltmarsh.example"), glue(&good, "ns2.saltmarsh.example")), (2, 1), "{good:#}");

    let closed = check(HALF_CLOSED);
    assert_eq!(
        (&closed["verdict"], codes(&closed)),
        (&json!("works-for-some"), vec!["server-unreachable"]),
        "{closed:#}"
    );
    let message = closed["findings"][0]["message"].as_str().unwrap();
    assert!(message.contains(&NS3[1].to_string()), "{message}");

    // The registry lacks what the zone has: named, and nobody is lost by it.
    let half = check(HALF_GLUE);
    assert_eq!(codes(&half), ["glue-partial"], "{half:#}");
    let message = half["findings"][0]["message"].as_str().unwrap();
    assert!(message.contains(&NS1[1].to_string()), "{message}");
}

/// In a network without IPv6: said once, and the servers of the other family are judged.
#[test]
fn a_machine_without_ipv6_says_so_once() {
    if !Network::V4Alone.is_here() {
        return Network::V4Alone.run_again(&["real::both_families::a_machine_without_ipv6_says_so_once"]);
    }
    let (folder, port) = (open_folder(), free_port());
    let head = "$TTL 3600\n@ SOA ns1.gullrock.example. hostmaster.gullrock.example. 7 14400 1800 2419200 300\n";
    let host = "ns1.gullrock.example. A 127.66.7.4\nns1.gullrock.example. AAAA fd5a:66:7:1::4\n";
    for (file, text) in [
        ("root", format!("@ NS ns1.gullrock.example.\nexample. NS ns1.gullrock.example.\n{host}")),
        ("example", format!("@ NS ns1.gullrock.example.\ngullrock NS ns1.gullrock.example.\n{host}")),
        (GOOD, format!("@ NS ns1\n{host}@ A 127.66.7.10\n")),
    ] {
        fs::write(folder.path().join(file), format!("{head}{text}")).unwrap();
    }
    let zone =
        |name: &str, file: &str| format!("  - domain: {name}\n    file: {}\n", folder.path().join(file).display());
    let zones = format!("zone:\n{}{}{}", zone(".", "root"), zone("example", "example"), zone(GOOD, GOOD));
    let at: SocketAddr = (Ipv4Addr::new(127, 66, 7, 4), port).into();
    let _server = start_knot(folder.path(), at, &zones);
    // The private kind of address is in place where a root has one.
    let done = run(brightharbor().env("BRIGHTHARBOR", folder.path().join("harbor")).args([
        "delegation",
        "check",
        GOOD,
        "--root-server",
        &at.to_string(),
        "--root-server",
        &format!("[fd5a:66:7:1::4]:{port}"),
    ]));
    let text = done.expect(0);
    assert_eq!(text.matches("this machine has no IPv6").count(), 1, "{text}");
    assert!(text.contains("works for everybody") && text.contains("1 of 2 servers answer with authority"), "{text}");
}

/// Everything on ::1, which every machine with IPv6 has: one server that holds all three zones.
#[test]
fn one_server_at_the_loopback_address_of_ipv6() {
    let (folder, port) = (open_folder(), free_port());
    let head = "$TTL 3600\n@ SOA ns1.gullrock.example. hostmaster.gullrock.example. 7 14400 1800 2419200 300\n";
    let host = "ns1.gullrock.example. AAAA ::1\n";
    for (file, text) in [
        ("root", format!("@ NS ns1.gullrock.example.\nexample. NS ns1.gullrock.example.\n{host}")),
        ("example", format!("@ NS ns1.gullrock.example.\ngullrock NS ns1.gullrock.example.\n{host}")),
        (GOOD, "@ NS ns1\nns1 AAAA ::1\n@ AAAA ::1\n".to_string()),
    ] {
        fs::write(folder.path().join(file), format!("{head}{text}")).unwrap();
    }
    let zone =
        |name: &str, file: &str| format!("  - domain: {name}\n    file: {}\n", folder.path().join(file).display());
    let zones = format!("zone:\n{}{}{}", zone(".", "root"), zone("example", "example"), zone(GOOD, GOOD));
    let at = SocketAddr::new(Ipv6Addr::LOCALHOST.into(), port);
    let _server = start_knot(folder.path(), at, &zones);
    let done = run(brightharbor().env("BRIGHTHARBOR", folder.path().join("harbor")).args([
        "delegation",
        "check",
        GOOD,
        "--json",
        "--root-server",
        &at.to_string(),
    ]));
    let checked: Value = serde_json::from_str(&done.stdout).unwrap_or_else(|error| panic!("{error}: {done:?}"));
    let one = &checked["domains"][0];
    assert_eq!((&one["verdict"], codes(one)), (&json!("risks"), vec!["single-nameserver"]), "{one:#}");
    assert_eq!(one["nameservers"][0]["servers"][0]["address"], at.to_string(), "{one:#}");
}

/// A site at both addresses: the zone has both, visitors of both are served, and a CA that comes over IPv6 alone is, too.
#[test]
fn a_host_of_both_families_is_served_and_certified_over_each() {
    let port = Port::new("nginx");
    let web = port.world.cast.web();
    let toml = port.path("harbor/harbor.toml");
    let settings = fs::read_to_string(&toml).unwrap();
    let both = format!("[\"{web}\", \"::1\"]");
    let edited = settings.replace(&format!("addresses = [\"{web}\"]"), &format!("addresses = {both}"));
    let edited = edited.replace(&format!("listen = [\"{web}\"]"), &format!("listen = {both}"));
    fs::write(&toml, edited).unwrap();
    port.run(&["account", "add", "bakery", "--email", "baker@saltmarsh.example"]).expect(0);
    port.delegate_here("gullrock.example");
    let attached = port.run(&["attach", "gullrock.example", "--account", "bakery"]);
    assert!([0, 3].contains(&attached.exit), "{attached:?}");
    let zone = fs::read_to_string(port.path("harbor/zones/gullrock.example.zone")).unwrap();
    assert!(zone.contains("www\tIN\tAAAA\t::1") && zone.contains(&format!("www\tIN\tA\t{web}")), "{zone}");
    port.tend_until_served();
    let surveyed = port.json(&["survey", "gullrock.example", "www.gullrock.example"], 0);
    let answers = &surveyed["surveys"][0]["links"][3]["because"];
    assert!(answers.as_str().unwrap().contains("[::1]:"), "{surveyed:#}");
    let checked = port.json(&["certificate", "check", "--all"], 0);
    let at: Vec<&str> =
        checked["servers"].as_array().unwrap().iter().map(|one| one["address"].as_str().unwrap()).collect();
    assert!(at.iter().any(|one| one.starts_with("[::1]:")) && at.iter().any(|one| one.starts_with("127.")), "{at:?}");

    // The proofs of the next certificate come over IPv6.
    for name in ["gullrock.example", "www.gullrock.example"] {
        port.run(&["record", "remove", name, "A"]).expect(0);
    }
    // A cache still has the old addresses; no CA asks it.
    let renewed = port.json(&["certificate", "renew", "gullrock.example"], 3);
    assert_eq!(renewed["certificate"]["names"], json!(["gullrock.example", "www.gullrock.example"]), "{renewed}");
}

//! A server that does not answer is waited for once, however many names have to do with it, and many names are looked at
//! side by side.

use std::fs;
use std::net::{SocketAddr, TcpListener, UdpSocket};
use std::time::{Duration, Instant};

use crate::coast::Coast;

/// What one command may take while something does not answer.
const AT_MOST: Duration = Duration::from_secs(8);

/// Takes questions, and never answers.
struct Silent {
    address: SocketAddr,
    _held: (UdpSocket, TcpListener),
}

impl Silent {
    fn beside(coast: &Coast) -> Self {
        let address = SocketAddr::new(coast.world.cast.spare(77), coast.world.cast.dns_port);
        let held = (UdpSocket::bind(address).unwrap(), TcpListener::bind(address).unwrap());
        Self { address, _held: held }
    }
}

fn with_setting(coast: &Coast, from: &str, to: &str) {
    let toml = coast.harbor().join("harbor.toml");
    let settings = fs::read_to_string(&toml).unwrap();
    assert!(settings.contains(from), "{settings}");
    fs::write(&toml, settings.replace(from, to)).unwrap();
}

const DOMAINS: [&str; 3] = ["gullrock.example", "driftwood.example", "quay.example"];

fn attach_takes(coast: &Coast, domains: &[&str], exit: i32) -> Duration {
    let started = Instant::now();
    let run = coast.run(&[&["attach", "--account", "bakery"], domains].concat());
    assert_eq!(run.exit, exit, "{run:?}");
    started.elapsed()
}

#[test]
fn one_of_two_nameservers_is_silent() {
    let coast = Coast::new();
    let silent = Silent::beside(&coast);
    let kind = coast.world.cast.family().record_type();
    let glue = format!("ns9.quiet.example. 3600 IN {kind} {}", silent.address.ip());
    coast.world.registrar.add_registry_record(&glue).unwrap();
    for domain in DOMAINS {
        coast.world.registrar.set_nameservers(domain, &["ns1.saltmarsh.example", "ns9.quiet.example"]).unwrap();
    }
    let took = attach_takes(&coast, &DOMAINS, 3);
    assert!(took < AT_MOST, "{took:?}");
}

#[test]
fn the_resolver_is_silent() {
    let coast = Coast::new();
    let silent = Silent::beside(&coast);
    let resolver = coast.world.cast.resolver().to_string();
    with_setting(
        &coast,
        &format!("resolvers = [\"{resolver}\"]"),
        &format!("resolvers = [\"{}\"]", silent.address.ip()),
    );
    DOMAINS.iter().for_each(|domain| coast.delegate_here(domain));
    let started = Instant::now();
    let run = coast.run(&[&["attach", "--account", "bakery"][..], &DOMAINS].concat());
    assert!(run.exit == 0 || run.exit == 3, "{run:?}");
    assert!(started.elapsed() < AT_MOST, "{:?}", started.elapsed());
}

#[test]
fn the_root_is_silent() {
    let coast = Coast::new();
    let silent = Silent::beside(&coast);
    let root = coast.world.cast.root().to_string();
    let to = format!("root-servers = [\"{}\"]", silent.address.ip());
    with_setting(&coast, &format!("root-servers = [\"{root}\"]"), &to);
    let took = attach_takes(&coast, &DOMAINS, 3);
    assert!(took < AT_MOST, "{took:?}");
}

#[test]
fn many_domains_that_nobody_has_registered_take_little_longer_than_one() {
    let coast = Coast::new();
    let one = attach_takes(&coast, &["berth0.example"], 3);
    let names: Vec<String> = (1..=20).map(|number| format!("berth{number}.example")).collect();
    let many = attach_takes(&coast, &names.iter().map(String::as_str).collect::<Vec<_>>(), 3);
    // What the machine does besides is not to be told from a slow command.
    assert!(many < (one * 3).max(Duration::from_secs(2)), "one {one:?}, twenty {many:?}");
}

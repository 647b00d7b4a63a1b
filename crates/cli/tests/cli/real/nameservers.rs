//! Further DNS servers for the tests: Knot DNS and NSD, as primaries and as secondaries, and unbound as resolver, each
//! with a configuration of its own in a temporary folder.

use std::fs;
use std::net::{IpAddr, SocketAddr};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use brightharbor_standins::Cast;

use super::servers::{Server, await_listener, need};

/// A transaction key of the tests.
pub struct Key {
    pub name: &'static str,
    secret: &'static str,
    algorithm: &'static str,
}

pub const TRANSFER: Key =
    Key { name: "quay-transfer", secret: "dHJhbnNmZXIga2V5IG9mIHRoZSB0ZXN0cw==", algorithm: "hmac-sha256" };
pub const UPDATE: Key =
    Key { name: "quay-update", secret: "dXBkYXRlIGtleSBvZiB0aGUgdGVzdHM=", algorithm: "hmac-sha512" };

impl Key {
    /// In the usual form, which is BIND's own.
    pub fn text(&self) -> String {
        format!("key \"{}\" {{ algorithm {}; secret \"{}\"; }};\n", self.name, self.algorithm, self.secret)
    }

    /// Writes the key file, for its owner alone.
    pub fn write(&self, folder: &Path) -> PathBuf {
        let path = folder.join(format!("{}.key", self.name));
        fs::write(&path, self.text()).unwrap();
        fs::set_permissions(&path, fs::Permissions::from_mode(0o600)).unwrap();
        path
    }

    fn for_knot(&self) -> String {
        format!("  - id: {}\n    algorithm: {}\n    secret: {}\n", self.name, self.algorithm, self.secret)
    }

    fn for_nsd(&self) -> String {
        format!("key:\n  name: \"{}\"\n  algorithm: {}\n  secret: \"{}\"\n", self.name, self.algorithm, self.secret)
    }
}

/// An address in the part of loopback that belongs to this test's world, so that no other test's server has it too.
pub fn address_of_its_own(cast: &Cast, last: u8) -> SocketAddr {
    let IpAddr::V4(web) = cast.web() else { unreachable!("the cast lives on IPv4 loopback") };
    let [a, b, c, _] = web.octets();
    SocketAddr::from(([a, b, c, last], cast.dns_port))
}

/// Starts Knot DNS with further lines of configuration. Gives the words of its remote control.
pub fn start_knot(folder: &Path, at: SocketAddr, more: &str) -> (Server, Vec<String>) {
    let (daemon, control) = (need("knotd", "knot"), need("knotc", "knot"));
    let home = folder.join("knot");
    fs::create_dir_all(home.join("db")).unwrap();
    let main = format!(
        "server:\n  listen: {ip}@{port}\n  rundir: {home}\n  pidfile: {home}/knot.pid\n\
         control:\n  listen: {home}/knot.sock\n\
         database:\n  storage: {home}/db\n\
         log:\n  - target: {home}/log\n    any: info\n\
         template:\n  - id: default\n    storage: {home}\n\
         key:\n{transfer}{update}{more}",
        ip = at.ip(),
        port = at.port(),
        home = home.display(),
        transfer = TRANSFER.for_knot(),
        update = UPDATE.for_knot(),
    );
    let file = home.join("knot.conf");
    fs::write(&file, main).unwrap();
    let server = Server::spawn(Command::new(daemon).arg("-c").arg(&file).stdout(Stdio::null()).stderr(Stdio::null()));
    await_listener(at);
    let socket = home.join("knot.sock");
    await_file(&socket);
    let words = [control.display().to_string(), "-s".into(), socket.display().to_string()];
    (server, words.to_vec())
}

/// Starts NSD with further lines of configuration. Gives the words of its remote control.
pub fn start_nsd(folder: &Path, at: SocketAddr, more: &str) -> (Server, Vec<String>) {
    let (daemon, control) = (need("nsd", "nsd"), need("nsd-control", "nsd"));
    let home = folder.join("nsd");
    fs::create_dir_all(&home).unwrap();
    let main = format!(
        "server:\n  ip-address: {ip}@{port}\n  username: \"\"\n  chroot: \"\"\n  zonesdir: \"{home}\"\n\
         \x20 pidfile: \"{home}/nsd.pid\"\n  database: \"\"\n  zonelistfile: \"{home}/zone.list\"\n\
         \x20 xfrdir: \"{home}\"\n  xfrdfile: \"{home}/xfrd.state\"\n  logfile: \"{home}/log\"\n  server-count: 1\n\
         remote-control:\n  control-enable: yes\n  control-interface: {home}/nsd.sock\n{transfer}{more}",
        ip = at.ip(),
        port = at.port(),
        home = home.display(),
        transfer = TRANSFER.for_nsd(),
    );
    let file = home.join("nsd.conf");
    fs::write(&file, main).unwrap();
    let server =
        Server::spawn(Command::new(daemon).args(["-d", "-c"]).arg(&file).stdout(Stdio::null()).stderr(Stdio::null()));
    await_listener(at);
    await_file(&home.join("nsd.sock"));
    let words = [control.display().to_string(), "-c".into(), file.display().to_string()];
    (server, words.to_vec())
}

/// Starts unbound as resolver. It asks other ports than 53 only where it is told to, zone by zone. With a file of trust
/// anchors it validates.
pub fn start_unbound(folder: &Path, at: SocketAddr, anchor: &str, zones: &[(&str, SocketAddr)]) -> Server {
    let stub = |(zone, at): &(&str, SocketAddr)| {
        format!("stub-zone:\n  name: \"{zone}\"\n  stub-addr: {}@{}\n", at.ip(), at.port())
    };
    let stubs: String = zones.iter().map(stub).collect();
    let modules = if anchor.is_empty() { "iterator" } else { "validator iterator" };
    let validates = match anchor.is_empty() {
        true => String::new(),
        false => format!("  trust-anchor-file: \"{anchor}\"\n  val-sig-skew-min: 0\n  val-sig-skew-max: 0\n"),
    };
    let main = format!(
        "server:\n  interface: {ip}@{port}\n  port: {port}\n  do-daemonize: no\n  username: \"\"\n  chroot: \"\"\n\
         \x20 directory: \"{home}\"\n  pidfile: \"{home}/unbound.pid\"\n  use-syslog: no\n  do-ip6: no\n\
         \x20 do-not-query-localhost: no\n  access-control: 127.0.0.0/8 allow\n  module-config: \"{modules}\"\n\
         {validates}  num-threads: 1\n  local-zone: \"example\" nodefault\nremote-control:\n  control-enable: no\n{stubs}",
        ip = at.ip(),
        port = at.port(),
        home = folder.display(),
    );
    let file = folder.join("unbound.conf");
    fs::write(&file, main).unwrap();
    let server =
        Server::spawn(Command::new(need("unbound", "unbound")).args(["-d", "-c"]).arg(&file).stderr(Stdio::null()));
    await_listener(at);
    server
}

/// Signs the zone in `file` of the folder in its place, with fresh keys and BIND's own tools. Gives its DS record.
pub fn sign_zone(folder: &Path, file: &str, domain: &str, algorithm: &str, words: &[&str]) -> String {
    let keys = folder.join(format!("keys-{file}"));
    fs::create_dir(&keys).unwrap();
    let keys = keys.to_str().unwrap();
    let tool = |program: &str, words: &[&str]| {
        let done = Command::new(need(program, "bind9-utils")).current_dir(folder).args(words).output().unwrap();
        assert!(done.status.success(), "{program} {words:?}: {}", String::from_utf8_lossy(&done.stderr));
    };
    let size: &[&str] = if algorithm.starts_with("RSA") { &["-b", "2048"] } else { &[] };
    tool("dnssec-keygen", &[&["-q", "-K", keys, "-a", algorithm, "-f", "KSK"], size, &[domain]].concat());
    tool("dnssec-keygen", &[&["-q", "-K", keys, "-a", algorithm], size, &[domain]].concat());
    let own = ["-q", "-P", "-S", "-K", keys, "-o", domain, "-f", file];
    tool("dnssec-signzone", &[&own[..], words, &[file]].concat());
    let dot = if domain == "." { "" } else { "." };
    fs::read_to_string(folder.join(format!("dsset-{domain}{dot}"))).unwrap()
}

fn await_file(path: &Path) {
    let deadline = Instant::now() + Duration::from_secs(5);
    while !path.exists() {
        assert!(Instant::now() < deadline, "{} does not appear", path.display());
        std::thread::sleep(Duration::from_millis(20));
    }
}

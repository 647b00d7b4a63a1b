//! Attach, delegate, tend, subdomain; then what must never end a running server.

use std::fs;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::process::Command;

use brightharbor_core::change::content_hash;
use brightharbor_core::delegation::{Outcome, Question};
use brightharbor_core::name::{DnsName, Host};
use brightharbor_core::zone::RecordType;
use brightharbor_io::dns::ask;
use brightharbor_standins::World;
use rcgen::KeyPair;
use serde_json::Value;

use super::ca::{Ca, Manner, start_ca_with};
use super::nameservers::UPDATE;
use super::servers::{Server, Web, need, open_folder, start_bind_with};
use crate::coast::{Run, brightharbor, run};

pub struct Port {
    pub world: World,
    folder: tempfile::TempDir,
    web_server: Server,
    bind: Option<Server>,
    pub ca: Ca,
    web: Web,
}

impl Port {
    pub fn new(kind: &str) -> Self {
        Self::with_ca(kind, &Manner { refused_nonces: 20, reuse: 50, ..Manner::default() })
    }

    pub fn with_ca(kind: &str, manner: &Manner) -> Self {
        let folder = open_folder();
        fs::create_dir(folder.path().join("homes")).unwrap();
        let world = World::start_around(folder.path()).unwrap();
        let (cast, harbor) = (&world.cast, folder.path().join("harbor"));
        let web = match kind {
            "nginx" => Web::nginx(folder.path(), &harbor.join("servers/nginx")),
            _ => Web::apache(cast, folder.path(), &harbor.join("servers/apache")),
        };
        // BIND refuses to start without the file that it includes; the harbor is laid out first, as the README says.
        let ca = start_ca_with(cast, folder.path(), manner);
        fs::create_dir_all(harbor.join("servers/bind")).unwrap();
        fs::write(harbor.join("servers/bind/zones.conf"), "").unwrap();
        UPDATE.write(folder.path());
        let list = harbor.join("servers/bind/zones.conf");
        let main = format!("{}include \"{}\";\n", UPDATE.text(), list.display());
        let (bind, rndc) = start_bind_with(cast, folder.path(), &main, "");
        let settings = settings(&world, folder.path(), &web, &ca, &rndc);
        fs::write(folder.path().join("settings.toml"), settings).unwrap();
        let port = {
            let web_server = Server::spawn(&mut Command::new("true"));
            Self { world, folder, web_server, bind: Some(bind), ca, web }
        };
        let file = port.path("settings.toml").display().to_string();
        port.run(&["init", "--settings", &file]).expect(0);
        let web_server = port.web.start(&port.world.cast);
        Self { web_server, ..port }
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    pub fn run(&self, arguments: &[&str]) -> Run {
        run(brightharbor().args(arguments).env("BRIGHTHARBOR", self.path("harbor")))
    }

    #[track_caller]
    pub fn json(&self, arguments: &[&str], exit: i32) -> Value {
        let run = run(brightharbor().args(arguments).arg("--json").env("BRIGHTHARBOR", self.path("harbor")));
        assert_eq!(run.exit, exit, "{run:?}");
        serde_json::from_str(&run.stdout).unwrap()
    }

    pub fn delegate_here(&self, domain: &str) {
        let names = ["ns1.saltmarsh.example", "ns2.saltmarsh.example"];
        self.world.registrar.set_nameservers(domain, &names).unwrap();
    }

    /// This CA asks a resolver with a cache, as CAs do: it may be led to the old host once. Then the time is remembered
    /// from which on trying again makes sense, and the timer's next run gets the certificate.
    pub fn tend_until_served(&self) -> Value {
        for _ in 0..60 {
            let run = run(brightharbor().args(["tend", "--json"]).env("BRIGHTHARBOR", self.path("harbor")));
            let tended: Value = serde_json::from_str(&run.stdout).unwrap();
            if run.exit == 0 {
                return tended;
            }
            let led_away = tended["tried"][0]["reason"].as_str().is_some_and(|why| why.contains("Old Quay"));
            assert!(run.exit == 3 && (led_away || tended["paused"][0]["site"] == "crumbandtide.example"), "{tended}");
            std::thread::sleep(std::time::Duration::from_millis(250));
        }
        panic!("no certificate, though the old answer has long left the caches");
    }

    /// Another judge than our own handshake.
    #[track_caller]
    pub fn openssl_verifies(&self, hostname: &str) {
        self.openssl_judges(hostname, &["-servername", hostname, "-verify_hostname", hostname]);
    }

    #[track_caller]
    fn openssl_judges(&self, hostname: &str, how: &[&str]) {
        let openssl = need("openssl", "openssl");
        let cast = &self.world.cast;
        let output = Command::new(openssl)
            .args(["s_client", "-connect", &SocketAddr::new(cast.web(), cast.https_port).to_string()])
            .args(how)
            .args(["-verify_return_error", "-CAfile"])
            .arg(&self.ca.root)
            .stdin(std::process::Stdio::null())
            .output()
            .unwrap();
        let text = String::from_utf8_lossy(&output.stdout).into_owned();
        assert!(output.status.success() && text.contains("Verify return code: 0 (ok)"), "{hostname}: {text}");
    }

    /// Another CA in the place of the one that there was, with an empty memory; the settings name it.
    pub fn restart_ca(&mut self, manner: &Manner) {
        fs::remove_dir_all(self.path("ca")).unwrap();
        let (before, root) = (self.ca.directory.clone(), fs::read_to_string(self.path("harbor/harbor.toml")).unwrap());
        self.ca = start_ca_with(&self.world.cast, self.folder.path(), manner);
        fs::write(self.path("harbor/harbor.toml"), root.replace(&before, &self.ca.directory)).unwrap();
    }

    /// Where orders at the present CA are saved.
    pub fn orders(&self) -> PathBuf {
        let hash = content_hash(self.ca.directory.as_bytes());
        self.path("harbor/ca").join(&hash[..16]).join("orders")
    }

    /// After somebody has edited its main file.
    pub fn reload_web(&self) {
        for words in [&self.web.test, &self.web.reload] {
            assert!(Command::new(&words[0]).args(&words[1..]).status().unwrap().success());
        }
        // The old workers leave.
        std::thread::sleep(std::time::Duration::from_millis(400));
    }

    /// How often the web server was told to load its files again: from its own log.
    pub fn reloads(&self) -> usize {
        let log = fs::read_to_string(self.path("nginx/error.log")).unwrap_or_default();
        log.matches(": reconfiguring").count()
    }

    fn site_file(&self, name: &str) -> PathBuf {
        self.path("harbor/servers").join(self.web.name).join(name)
    }
}

fn settings(world: &World, folder: &std::path::Path, web: &Web, ca: &Ca, rndc: &[String]) -> String {
    let cast = &world.cast;
    let list = |words: &[String]| format!("{words:?}");
    let check = [need("named-checkzone", "bind9-utils").display().to_string()];
    format!(
        r#"[host]
addresses = ["{web_address}"]
nameservers = ["ns1.saltmarsh.example.", "ns2.saltmarsh.example."]
[sites]
home = "{folder}/homes/{{account}}"
[web]
server = "{name}"
listen = ["{web_address}"]
test = {test}
reload = {reload}
main-file = "{main_file}"
[dns]
server = "bind"
check = {check}
control-command = {rndc}
main-file = "{folder}/bind/named.conf"
update-key-file = "{folder}/quay-update.key"
address = "{dns_server}"
[ca]
directory = "{directory}"
terms-accepted = true
trust-root = "{https_root}"
[internet]
root-servers = ["{root_server}"]
resolvers = ["{resolver}"]
dns-port = {dns_port}
http-port = {http_port}
https-port = {https_port}
trust-roots = ["{root}"]
"#,
        web_address = cast.web(),
        folder = folder.display(),
        name = web.name,
        test = list(&web.test),
        reload = list(&web.reload),
        main_file = web.main_file.display(),
        check = list(&check),
        rndc = list(rndc),
        dns_server = SocketAddr::new(cast.nameservers()[0], cast.dns_port),
        dns_port = cast.dns_port,
        directory = ca.directory,
        https_root = ca.https_root.display(),
        root_server = cast.root(),
        resolver = cast.resolver(),
        http_port = cast.http_port,
        https_port = cast.https_port,
        root = ca.root.display(),
    )
}

#[test]
fn the_whole_voyage_with_nginx_bind_and_a_test_ca() {
    voyage("nginx");
}

#[test]
fn the_whole_voyage_with_apache_bind_and_a_test_ca() {
    voyage("apache");
}

fn voyage(kind: &str) {
    let mut port = Port::new(kind);
    let checked = port.json(&["init", "--check"], 0);
    assert_eq!(checked["check"][0]["in_effect"], true);
    assert_eq!(checked["check"][1]["in_effect"], true);
    port.run(&["account", "add", "bakery", "--email", "baker@saltmarsh.example"]).expect(0);
    let attached = port.json(&["attach", "crumbandtide.example", "--account", "bakery"], 3);
    assert_eq!(attached["surveys"][0]["stops_at"], "delegated");
    assert!(port.web_server.is_running());

    port.delegate_here("crumbandtide.example");
    // BIND answers with the new zone, on both of its addresses.
    let checked = port.json(&["delegation", "check", "crumbandtide.example"], 0);
    for nameserver in checked["domains"][0]["nameservers"].as_array().unwrap() {
        assert_eq!(nameserver["servers"][0]["state"], "authoritative", "{nameserver}");
    }
    let tended = port.tend_until_served();
    assert_eq!(tended["tried"][0]["names"].as_array().unwrap().len(), 2, "{tended}");
    for name in ["crumbandtide.example", "www.crumbandtide.example"] {
        port.openssl_verifies(name);
    }
    // Both names, on the real server: the chain, the versions, and that it is the very certificate installed.
    let served = port.json(&["certificate", "check", "--all"], 0);
    for server in served["servers"].as_array().unwrap() {
        assert_eq!((&server["verdict"], &server["trusted"]), (&"well".into(), &true.into()), "{server}");
        assert_eq!(server["versions"], serde_json::json!(["TLS 1.2", "TLS 1.3"]), "{server}");
        assert_eq!(server["alpn"], "h2", "{server}");
    }
    // The key was seen by somebody: a new one first, then the old certificate is revoked, at the real CA.
    let revoked = port.json(&["certificate", "revoke", "crumbandtide.example", "--reason", "key-compromise"], 0);
    assert_eq!(revoked["successor"]["outcome"], "served", "{revoked}");
    port.openssl_verifies("www.crumbandtide.example");
    // All names below it, with an RSA key: the proof stands in BIND's zone meanwhile.
    let wildcard = ["certificate", "issue", "crumbandtide.example", "--wildcard", "--key", "rsa2048"];
    let issued = port.json(&wildcard, 0);
    let names = &issued["certificate"]["names"];
    assert_eq!(names, &serde_json::json!(["crumbandtide.example", "*.crumbandtide.example"]), "{issued}");
    port.openssl_verifies("crumbandtide.example");
    port.openssl_verifies("www.crumbandtide.example");
    let zone = fs::read_to_string(port.path("harbor/zones/crumbandtide.example.zone")).unwrap();
    assert!(!zone.contains("_acme-challenge"), "{zone}");
    let shop = port.json(&["attach", "shop.crumbandtide.example", "--account", "bakery"], 0);
    assert_eq!(shop["surveys"][0]["all_hold"], true, "{shop}");
    port.openssl_verifies("shop.crumbandtide.example");

    an_address_has_a_certificate_of_its_own(&port);
    records_are_loaded_and_asked_for(&port);
    a_zone_that_has_become_dynamic_takes_the_proofs_by_update(&port, kind);
    refused_changes_leave_the_server_running(&mut port);
    a_dns_server_that_is_down_changes_nothing(&mut port);
}

/// RFC 8738: the handshake names no host, and must show this certificate all the same, whatever other sites there are.
fn an_address_has_a_certificate_of_its_own(port: &Port) {
    let address = port.world.cast.web().to_string();
    port.json(&["attach", "--address", &address, "--account", "bakery"], 0);
    let issued = port.json(&["certificate", "issue", &address], 0);
    assert_eq!(issued["certificate"]["names"], serde_json::json!([Host::from(port.world.cast.web()).as_str()]));
    port.openssl_judges(&address, &["-noservername", "-verify_ip", &address]);
    port.openssl_verifies("shop.crumbandtide.example");
    let surveyed = port.json(&["survey", &address], 0);
    assert_eq!(surveyed["surveys"][0]["all_hold"], true, "{surveyed}");
    port.json(&["certificate", "renew", &address], 0);
    port.json(&["detach", &address], 0);
}

/// The remote control finds nobody: everything is put back, and the web server goes on.
fn a_dns_server_that_is_down_changes_nothing(port: &mut Port) {
    port.bind = None;
    let text = port.run(&["attach", "lanternchoir.example", "--account", "bakery"]).expect(5);
    assert!(text.contains("rndc") && text.contains("rolled back"), "{text}");
    assert!(!port.path("harbor/zones/lanternchoir.example.zone").exists());
    assert!(!port.site_file("lanternchoir.example.conf").exists());
    assert!(port.web_server.is_running());
    port.openssl_verifies("crumbandtide.example");
}

/// Added, replaced and removed in the zone file; BIND is asked until it answers with the new serial.
fn records_are_loaded_and_asked_for(port: &Port) {
    let added = port.json(&["record", "add", "quay.crumbandtide.example", "TXT", "bread at seven"], 0);
    let serial = added["serial"].as_u64().unwrap();
    let at_bind = |record_type: RecordType| {
        let server = SocketAddr::new(port.world.cast.nameservers()[0], port.world.cast.dns_port);
        let name = DnsName::absolute("quay.crumbandtide.example").unwrap();
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        let seen = runtime.block_on(ask(&Question::authoritative(server, &name, record_type)));
        let Outcome::Reply(reply) = seen.outcome else { panic!("{seen:?}") };
        reply.answer.iter().map(|record| record.data.to_string()).collect::<Vec<_>>()
    };
    assert_eq!(at_bind(RecordType::TXT), ["\"bread at seven\""]);
    let zone = ["--zone", "crumbandtide.example"];
    let replaced = port.json(&[&["record", "replace", "quay", "TXT", "at eight", "and nine"][..], &zone].concat(), 0);
    assert_eq!(replaced["serial"].as_u64().unwrap(), serial + 1);
    let mut texts = at_bind(RecordType::TXT);
    texts.sort();
    assert_eq!(texts, ["\"and nine\"", "\"at eight\""]);
    port.json(&[&["record", "remove", "quay", "TXT"][..], &zone].concat(), 0);
    assert_eq!(at_bind(RecordType::TXT), Vec::<String>::new());
    let refused = port.json(&[&["record", "add", "www", "CNAME", "@"][..], &zone].concat(), 4);
    assert_eq!(refused["error"]["code"], "alias-beside-data");
}

/// The administrator makes the zone dynamic by hand: the next proofs go to BIND by UPDATE, and never into the file.
fn a_zone_that_has_become_dynamic_takes_the_proofs_by_update(port: &Port, kind: &str) {
    let parts = fs::read_dir(port.path("harbor/servers/bind/parts")).unwrap().map(|entry| entry.unwrap().path());
    let part = parts.into_iter().find(|part| fs::read_to_string(part).unwrap().contains("crumbandtide")).unwrap();
    let text = fs::read_to_string(&part).unwrap();
    let allow = "allow-update { key \"quay-update\"; }; allow-transfer { key \"quay-update\"; }; };";
    let edit = |line: &str| if line.contains("crumbandtide") { line.replace("};", allow) } else { line.into() };
    fs::write(&part, text.lines().map(edit).collect::<Vec<_>>().join("\n") + "\n").unwrap();
    let rndc = port.path("bind/rndc.conf");
    let done = Command::new(need("rndc", "bind9-utils")).arg("-c").arg(rndc).arg("reconfig").status().unwrap();
    assert!(done.success());
    let file = port.path("harbor/zones/crumbandtide.example.zone");
    let before = fs::read(&file).unwrap();
    let renewed = port.json(&["certificate", "renew", "crumbandtide.example"], 0);
    assert_eq!(renewed["certificate"]["names"][1], "*.crumbandtide.example", "{kind}: {renewed}");
    port.openssl_verifies("www.crumbandtide.example");
    assert_eq!(fs::read(&file).unwrap(), before);
    let listed = port.json(&["record", "list", "crumbandtide.example"], 0).to_string();
    assert!(!listed.contains("_acme-challenge"), "{listed}");
}

/// A broken file, and a key of another certificate: nothing is reloaded, the old sites stay served.
fn refused_changes_leave_the_server_running(port: &mut Port) {
    let nonsense = port.site_file("zz-by-hand.conf");
    fs::write(&nonsense, "this is no configuration {\n").unwrap();
    let before = fs::read_to_string(port.site_file("crumbandtide.example.conf")).unwrap();
    let text = port.run(&["attach", "new.crumbandtide.example", "--account", "bakery"]).expect(5);
    assert!(text.contains("zz-by-hand.conf") && text.contains("rolled back"), "{text}");
    assert!(!port.site_file("new.crumbandtide.example.conf").exists());
    fs::remove_file(nonsense).unwrap();
    port.openssl_verifies("crumbandtide.example");

    let folder = fs::read_dir(port.path("harbor/certificates/shop.crumbandtide.example")).unwrap().next().unwrap();
    let key = folder.unwrap().path().join("key.pem");
    let right = fs::read(&key).unwrap();
    fs::write(&key, KeyPair::generate().unwrap().serialize_pem()).unwrap();
    let text = port.run(&["attach", "new.crumbandtide.example", "--account", "bakery"]).expect(5);
    assert!(text.contains("do not belong together") && text.contains("shop.crumbandtide.example"), "{text}");
    fs::remove_file(&key).unwrap();
    let text = port.run(&["attach", "new.crumbandtide.example", "--account", "bakery"]).expect(5);
    assert!(text.contains("key.pem"), "{text}");
    assert!(port.web_server.is_running());
    port.openssl_verifies("shop.crumbandtide.example");
    fs::write(&key, right).unwrap();

    let text = port.run(&["attach", "new.crumbandtide.example", "--account", "bakery"]).expect(0);
    assert!(text.contains("all six links hold"), "{text}");
    assert_eq!(fs::read_to_string(port.site_file("crumbandtide.example.conf")).unwrap(), before);
    assert!(port.web_server.is_running());
}

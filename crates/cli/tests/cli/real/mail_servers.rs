//! Certificates of services that begin in the clear, on servers that others run: Exim, Dovecot, vsftpd, OpenLDAP, PostgreSQL.
//! `start_tls.rs` has what goes wrong, with a stand-in.

use std::fs;
use std::net::{SocketAddr, TcpListener};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use serde_json::{Value, json};

use super::servers::{Server, await_listener, need};
use crate::coast::{brightharbor, run};

fn free() -> SocketAddr {
    TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap()
}

/// A folder that each of the servers' users can read, with a certificate and its key.
fn folder() -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o755)).unwrap();
    let key = rcgen::KeyPair::generate().unwrap();
    let params = rcgen::CertificateParams::new(vec!["gullrock.example".to_string()]).unwrap();
    fs::write(folder.path().join("chain.pem"), params.self_signed(&key).unwrap().pem()).unwrap();
    fs::write(folder.path().join("key.pem"), key.serialize_pem()).unwrap();
    folder
}

/// Writes a configuration, with the folder's path for `HERE`.
fn configured(folder: &Path, name: &str, text: &str) -> PathBuf {
    let file = folder.join(name);
    fs::write(&file, text.replace("HERE", folder.to_str().unwrap())).unwrap();
    file
}

fn started(command: &mut Command, address: SocketAddr) -> Server {
    let server = Server::spawn(command.stdout(Stdio::null()).stderr(Stdio::null()));
    await_listener(address);
    server
}

fn owned_by(folder: &Path, user: &str) {
    assert!(Command::new("chown").args(["-R", user]).arg(folder).status().unwrap().success(), "run as root");
}

/// What is seen there; the certificate is trusted, and as it should be but for what the server's own defaults allow.
fn seen(folder: &Path, address: SocketAddr, protocol: Option<&str>) -> Value {
    let target = format!("gullrock.example:{}", address.port());
    let mut command = brightharbor();
    command.args(["certificate", "check", &target, "--at", "127.0.0.1", "--json"]).env("BRIGHTHARBOR", "/nowhere");
    command.args(protocol.iter().flat_map(|protocol| ["--starttls", protocol]));
    let done = run(command.env("SSL_CERT_FILE", folder.join("chain.pem")));
    let seen = serde_json::from_str::<Value>(&done.stdout).unwrap()["servers"][0].clone();
    assert_eq!((&seen["starttls"], &seen["failed"]), (&json!(protocol), &json!(null)), "{seen}");
    assert_eq!(seen["names"], json!(["gullrock.example"]), "{seen}");
    assert_eq!(seen["sent"], 1, "{seen}");
    let versions = seen["versions"].as_array().unwrap();
    assert!(versions.ends_with(&[json!("TLS 1.2"), json!("TLS 1.3")]), "{seen}");
    assert_eq!(seen["cipher_suites"][0], "authenticated", "{seen}");
    seen
}

#[test]
fn exim_shows_its_certificate_to_mail_servers() {
    let (folder, address) = (folder(), free());
    let config = configured(
        folder.path(),
        "exim.conf",
        &format!(
            "keep_environment =\nspool_directory = HERE/spool\nlog_file_path = HERE/spool/%slog\npid_file_path = HERE/spool/pid\n\
             local_interfaces = 127.0.0.1\ndaemon_smtp_ports = {}\nprimary_hostname = mail.gullrock.example\nhost_lookup =\n\
             tls_advertise_hosts = *\ntls_certificate = HERE/chain.pem\ntls_privatekey = HERE/key.pem\n",
            address.port()
        ),
    );
    let spool = folder.path().join("spool");
    fs::create_dir(&spool).unwrap();
    owned_by(&spool, "Debian-exim");
    owned_by(&folder.path().join("key.pem"), "Debian-exim");
    let exim = need("exim4", "exim4-daemon-light");
    let _server = started(Command::new(exim).arg("-C").arg(config).arg("-bdf"), address);
    seen(folder.path(), address, Some("smtp"));
}

#[test]
fn dovecot_shows_its_certificate_to_those_who_fetch_mail() {
    let (folder, [imap, imaps, pop3]) = (folder(), [free(), free(), free()]);
    let config = configured(
        folder.path(),
        "dovecot.conf",
        &format!(
            "base_dir = HERE/run\nlog_path = HERE/log\nprotocols = imap pop3\nlisten = 127.0.0.1\nssl = yes\n\
             ssl_cert = <HERE/chain.pem\nssl_key = <HERE/key.pem\npassdb {{\n driver = static\n args = nopassword=y\n}}\n\
             userdb {{\n driver = static\n args = uid=65534 gid=65534 home=HERE/none\n}}\n\
             service imap-login {{\n inet_listener imap {{\n port = {}\n }}\n inet_listener imaps {{\n port = {}\n }}\n}}\n\
             service pop3-login {{\n inet_listener pop3 {{\n port = {}\n }}\n inet_listener pop3s {{\n port = 0\n }}\n}}\n",
            imap.port(),
            imaps.port(),
            pop3.port()
        ),
    );
    for (program, package) in [("imap-login", "dovecot-imapd"), ("pop3-login", "dovecot-pop3d")] {
        let there = Path::new("/usr/lib/dovecot").join(program).is_file();
        assert!(there, "{program} is missing; install it: apt-get install {package} (or run scripts/test)");
    }
    let _server = started(Command::new(need("dovecot", "dovecot-core")).args(["-F", "-c"]).arg(config), imap);
    seen(folder.path(), imap, Some("imap"));
    seen(folder.path(), pop3, Some("pop3"));
    // With TLS from the start.
    seen(folder.path(), imaps, None);
    let mut command = brightharbor();
    command.args(["certificate", "check", &format!("gullrock.example:{}", imaps.port()), "--at", "127.0.0.1"]);
    let told = run(command.env("BRIGHTHARBOR", "/nowhere").env("SSL_CERT_FILE", folder.path().join("chain.pem")));
    assert!(told.stdout.contains("gullrock.example") && !told.stdout.contains("HSTS"), "it has no pages: {told:?}");
}

#[test]
fn vsftpd_shows_its_certificate_to_those_who_fetch_files() {
    let (folder, address) = (folder(), free());
    fs::create_dir(folder.path().join("empty")).unwrap();
    let config = configured(
        folder.path(),
        "vsftpd.conf",
        &format!(
            "listen=YES\nlisten_address=127.0.0.1\nlisten_port={}\nbackground=NO\nssl_enable=YES\nsecure_chroot_dir=HERE/empty\n\
             rsa_cert_file=HERE/chain.pem\nrsa_private_key_file=HERE/key.pem\nssl_ciphers=HIGH\n",
            address.port()
        ),
    );
    let _server = started(Command::new(need("vsftpd", "vsftpd")).arg(config), address);
    seen(folder.path(), address, Some("ftp"));
}

#[test]
fn openldap_shows_its_certificate() {
    let (folder, address) = (folder(), free());
    let config = configured(
        folder.path(),
        "slapd.conf",
        "TLSCertificateFile HERE/chain.pem\nTLSCertificateKeyFile HERE/key.pem\npidfile HERE/pid\n",
    );
    let slapd = need("slapd", "slapd");
    let _server =
        started(Command::new(slapd).args(["-h", &format!("ldap://{address}"), "-d", "0", "-f"]).arg(config), address);
    seen(folder.path(), address, Some("ldap"));
}

#[test]
fn postgresql_shows_its_certificate() {
    let (folder, address) = (folder(), free());
    let versions = fs::read_dir("/usr/lib/postgresql").expect("install it: apt-get install postgresql");
    let programs = versions.flatten().map(|version| version.path().join("bin")).max().unwrap();
    let data = folder.path().join("data");
    fs::create_dir(&data).unwrap();
    owned_by(&data, "postgres");
    owned_by(&folder.path().join("key.pem"), "postgres");
    fs::set_permissions(folder.path().join("key.pem"), fs::Permissions::from_mode(0o600)).unwrap();
    // It refuses to run as root.
    let as_postgres = |program: &str| {
        let mut command = Command::new(need("setpriv", "util-linux"));
        command.args(["--reuid=postgres", "--regid=postgres", "--init-groups"]).arg(programs.join(program));
        command.arg("-D").arg(&data).stdout(Stdio::null()).stderr(Stdio::null()).current_dir("/");
        command
    };
    assert!(as_postgres("initdb").args(["-A", "trust", "--no-sync"]).status().unwrap().success());
    let set = |name: &str, value: &str| format!("{name}={value}").replace("HERE", folder.path().to_str().unwrap());
    let mut server = as_postgres("postgres");
    server.args(["-p", &address.port().to_string()]);
    for (name, value) in [
        ("listen_addresses", "127.0.0.1"),
        ("unix_socket_directories", "HERE/data"),
        ("ssl", "on"),
        ("ssl_cert_file", "HERE/chain.pem"),
        ("ssl_key_file", "HERE/key.pem"),
    ] {
        server.args(["-c", &set(name, value)]);
    }
    let _server = started(&mut server, address);
    seen(folder.path(), address, Some("postgres"));
}

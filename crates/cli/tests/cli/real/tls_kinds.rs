//! Forty kinds of servers over TLS, started with OpenSSL's own or made here, and what `certificate check` says of each: nothing
//! of those that are as they should be.

use std::fs;
use std::io::{Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::Mutex;

use rcgen::{
    BasicConstraints, CertificateParams, CustomExtension, DnType, ExtendedKeyUsagePurpose, IsCa, Issuer, KeyPair,
    date_time_ymd,
};
use serde_json::Value;

use super::servers::{Server, await_listener, need};
use crate::coast::{brightharbor, run};

const NAME: &str = "gullrock.example";

/// A root that is trusted, and an issuer below it.
struct Authority {
    folder: tempfile::TempDir,
    root: Issuer<'static, KeyPair>,
    root_pem: String,
    issuer: Issuer<'static, KeyPair>,
    issuer_pem: String,
    /// Made once: that takes a while.
    rsa: String,
    short_rsa: String,
}

/// The kind of a server's certificate.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Leaf {
    Ec,
    Ec384,
    Rsa,
    RsaShort,
    Expired,
    NotYet,
    EndsSoon,
    OtherName,
    Wildcard,
    ForClients,
    WantsStaple,
    SelfSigned,
    /// By a root that nobody knows.
    Stranger,
    /// Signed by means of SHA-1.
    Sha1,
}

/// What is sent behind it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Behind {
    Issuer,
    Nothing,
    IssuerAndRoot,
    RootThenIssuer,
}

fn authority(name: &str, by: Option<&Issuer<'static, KeyPair>>) -> (Issuer<'static, KeyPair>, String) {
    let key = KeyPair::generate().unwrap();
    let mut params = CertificateParams::default();
    params.distinguished_name.push(DnType::CommonName, name);
    params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    let made = match by {
        Some(issuer) => params.signed_by(&key, issuer).unwrap(),
        None => params.self_signed(&key).unwrap(),
    };
    (Issuer::new(params, key), made.pem())
}

fn openssl(arguments: &[&str]) {
    let made = Command::new(need("openssl", "openssl")).args(arguments).stderr(Stdio::null()).status();
    assert!(made.unwrap().success(), "{arguments:?}");
}

impl Authority {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let (root, root_pem) = authority("Tide root", None);
        let (issuer, issuer_pem) = authority("Tide issuer", Some(&root));
        fs::write(folder.path().join("root.pem"), &root_pem).unwrap();
        let rsa = |bits: &str| {
            let file = folder.path().join(bits);
            openssl(&[
                "genpkey",
                "-algorithm",
                "RSA",
                "-pkeyopt",
                &format!("rsa_keygen_bits:{bits}"),
                "-out",
                file.to_str().unwrap(),
            ]);
            fs::read_to_string(file).unwrap()
        };
        let (long, short) = (rsa("2048"), rsa("1024"));
        Self { folder, root, root_pem, issuer, issuer_pem, rsa: long, short_rsa: short }
    }

    /// Certificate, what is sent behind it, and key, in files of their own.
    fn leaf(&self, kind: Leaf, behind: Behind) -> [PathBuf; 3] {
        static NEXT: Mutex<u32> = Mutex::new(0);
        let number = {
            let mut next = NEXT.lock().unwrap();
            *next += 1;
            *next
        };
        let folder = self.folder.path().join(number.to_string());
        fs::create_dir(&folder).unwrap();
        let key = match kind {
            Leaf::Rsa => KeyPair::from_pem(&self.rsa).unwrap(),
            Leaf::RsaShort | Leaf::Sha1 => KeyPair::generate().unwrap(),
            Leaf::Ec384 => KeyPair::generate_for(&rcgen::PKCS_ECDSA_P384_SHA384).unwrap(),
            _ => KeyPair::generate().unwrap(),
        };
        let [own_file, behind_file, key_file] = ["own.pem", "behind.pem", "key.pem"].map(|name| folder.join(name));
        let own = match kind {
            Leaf::RsaShort | Leaf::Sha1 => self.by_openssl(kind, &folder, &key_file),
            _ => {
                fs::write(&key_file, key.serialize_pem()).unwrap();
                self.signed(kind, &key)
            }
        };
        let behind = match behind {
            Behind::Issuer => self.issuer_pem.clone(),
            Behind::Nothing => String::new(),
            Behind::IssuerAndRoot => format!("{}{}", self.issuer_pem, self.root_pem),
            Behind::RootThenIssuer => format!("{}{}", self.root_pem, self.issuer_pem),
        };
        fs::write(&own_file, own).unwrap();
        fs::write(&behind_file, behind).unwrap();
        [own_file, behind_file, key_file]
    }

    fn signed(&self, kind: Leaf, key: &KeyPair) -> String {
        let names = match kind {
            Leaf::OtherName => vec!["lanternchoir.example".to_string()],
            Leaf::Wildcard => vec![format!("*.{}", "example")],
            _ => vec![NAME.to_string()],
        };
        let mut params = CertificateParams::new(names).unwrap();
        // As of the CA/Browser Forum: rather short, and begun.
        let now = jiff::Timestamp::now();
        let day = |days: i64| {
            let moment = now + jiff::SignedDuration::from_hours(24 * days);
            let date = moment.to_zoned(jiff::tz::TimeZone::UTC).date();
            date_time_ymd(date.year().into(), date.month() as u8, date.day() as u8)
        };
        (params.not_before, params.not_after) = match kind {
            Leaf::Expired => (day(-100), day(-10)),
            Leaf::NotYet => (day(5), day(95)),
            Leaf::EndsSoon => (day(-88), day(2)),
            _ => (day(-10), day(80)),
        };
        params.extended_key_usages = match kind {
            Leaf::ForClients => vec![ExtendedKeyUsagePurpose::ClientAuth],
            _ => vec![ExtendedKeyUsagePurpose::ServerAuth],
        };
        if kind == Leaf::WantsStaple {
            let feature = CustomExtension::from_oid_content(&[1, 3, 6, 1, 5, 5, 7, 1, 24], vec![0x30, 3, 2, 1, 5]);
            params.custom_extensions.push(feature);
        }
        match kind {
            Leaf::SelfSigned => params.self_signed(key).unwrap().pem(),
            Leaf::Stranger => params.signed_by(key, &authority("Stranger", None).0).unwrap().pem(),
            _ => params.signed_by(key, &self.issuer).unwrap().pem(),
        }
    }

    /// What a library of today does not sign.
    fn by_openssl(&self, kind: Leaf, folder: &Path, key_file: &Path) -> String {
        let at = |name: &str| folder.join(name).to_str().unwrap().to_string();
        fs::write(key_file, if kind == Leaf::Sha1 { &self.rsa } else { &self.short_rsa }).unwrap();
        fs::write(at("issuer.pem"), &self.issuer_pem).unwrap();
        fs::write(at("issuer.key"), self.issuer.key().serialize_pem()).unwrap();
        fs::write(at("extensions"), format!("subjectAltName=DNS:{NAME}\nextendedKeyUsage=serverAuth\n")).unwrap();
        let key = key_file.to_str().unwrap();
        openssl(&["req", "-new", "-key", key, "-subj", "/CN=old", "-out", &at("request.pem")]);
        let hash = if kind == Leaf::Sha1 { "-sha1" } else { "-sha256" };
        openssl(&[
            "x509",
            "-req",
            hash,
            "-in",
            &at("request.pem"),
            "-CA",
            &at("issuer.pem"),
            "-CAkey",
            &at("issuer.key"),
            "-days",
            "80",
            "-set_serial",
            "7",
            "-extfile",
            &at("extensions"),
            "-out",
            &at("leaf.pem"),
        ]);
        fs::read_to_string(at("leaf.pem")).unwrap()
    }
}

/// A server: its certificate, what is sent with it, OpenSSL's options, and the findings, the gravest first.
type Kind = (&'static str, Leaf, Behind, &'static [&'static str], &'static [&'static str]);

const LOOSE: &str = "ALL:eNULL:@SECLEVEL=0";

const KINDS: &[Kind] = &[
    // As it should be.
    ("EC key", Leaf::Ec, Behind::Issuer, &[], &[]),
    ("EC key of 384 bits", Leaf::Ec384, Behind::Issuer, &[], &[]),
    ("RSA key", Leaf::Rsa, Behind::Issuer, &[], &[]),
    ("TLS 1.3 alone", Leaf::Ec, Behind::Issuer, &["-tls1_3"], &[]),
    ("TLS 1.2 alone", Leaf::Ec, Behind::Issuer, &["-tls1_2"], &[]),
    ("TLS 1.2 with an RSA key", Leaf::Rsa, Behind::Issuer, &["-tls1_2"], &[]),
    ("AES-GCM alone", Leaf::Ec, Behind::Issuer, &["-tls1_2", "-cipher", "ECDHE+AESGCM"], &[]),
    ("ChaCha20 alone", Leaf::Ec, Behind::Issuer, &["-tls1_2", "-cipher", "ECDHE+CHACHA20"], &[]),
    (
        "ChaCha20 in TLS 1.3",
        Leaf::Ec,
        Behind::Issuer,
        &["-tls1_3", "-ciphersuites", "TLS_CHACHA20_POLY1305_SHA256"],
        &[],
    ),
    ("a wildcard", Leaf::Wildcard, Behind::Issuer, &[], &[]),
    ("asks for a certificate", Leaf::Ec, Behind::Issuer, &["-verify", "1"], &[]),
    ("demands a certificate", Leaf::Ec, Behind::Issuer, &["-Verify", "1"], &[]),
    ("P-384 for the exchange", Leaf::Ec, Behind::Issuer, &["-curves", "P-384"], &[]),
    ("no tickets", Leaf::Ec, Behind::Issuer, &["-no_ticket"], &[]),
    ("its own order", Leaf::Ec, Behind::Issuer, &["-serverpref"], &[]),
    ("HTTP/1.1 by ALPN", Leaf::Ec, Behind::Issuer, &["-alpn", "http/1.1"], &[]),
    // Its certificate.
    ("expired", Leaf::Expired, Behind::Issuer, &[], &["served-expired"]),
    ("not valid yet", Leaf::NotYet, Behind::Issuer, &[], &["served-expired"]),
    ("ends soon", Leaf::EndsSoon, Behind::Issuer, &[], &["served-expires-soon"]),
    ("another name", Leaf::OtherName, Behind::Issuer, &[], &["served-name-not-covered"]),
    ("for clients", Leaf::ForClients, Behind::Issuer, &[], &["served-not-trusted"]),
    ("self-signed", Leaf::SelfSigned, Behind::Nothing, &[], &["served-not-trusted"]),
    ("a stranger's", Leaf::Stranger, Behind::Nothing, &[], &["chain-issuer-missing"]),
    ("a promise of a staple", Leaf::WantsStaple, Behind::Issuer, &[], &["staple-missing"]),
    (
        "RSA with 1024 bits",
        Leaf::RsaShort,
        Behind::Issuer,
        &["-cipher", "DEFAULT:@SECLEVEL=0", "-min_protocol", "TLSv1.2"],
        &["served-weak"],
    ),
    (
        "SHA-1",
        Leaf::Sha1,
        Behind::Issuer,
        &["-cipher", "DEFAULT:@SECLEVEL=0", "-min_protocol", "TLSv1.2"],
        &["served-not-trusted", "served-weak"],
    ),
    // Its chain.
    ("no issuer", Leaf::Ec, Behind::Nothing, &[], &["chain-issuer-missing"]),
    ("the root as well", Leaf::Ec, Behind::IssuerAndRoot, &[], &["chain-root-sent"]),
    ("out of order", Leaf::Ec, Behind::RootThenIssuer, &[], &["chain-out-of-order", "chain-root-sent"]),
    // Versions and cipher suites.
    (
        "TLS 1.0 too",
        Leaf::Ec,
        Behind::Issuer,
        &["-cipher", "DEFAULT:@SECLEVEL=0", "-min_protocol", "TLSv1"],
        &["old-tls-offered"],
    ),
    (
        "TLS 1.1 too",
        Leaf::Ec,
        Behind::Issuer,
        &["-cipher", "DEFAULT:@SECLEVEL=0", "-min_protocol", "TLSv1.1"],
        &["old-tls-offered"],
    ),
    (
        "TLS 1.0 alone",
        Leaf::Rsa,
        Behind::Issuer,
        &["-cipher", "DEFAULT:@SECLEVEL=0", "-min_protocol", "TLSv1", "-max_protocol", "TLSv1"],
        &["tls-not-spoken", "old-tls-offered"],
    ),
    (
        "TLS 1.1 alone",
        Leaf::Rsa,
        Behind::Issuer,
        &["-cipher", "DEFAULT:@SECLEVEL=0", "-min_protocol", "TLSv1.1", "-max_protocol", "TLSv1.1"],
        &["tls-not-spoken", "old-tls-offered"],
    ),
    ("CBC alone", Leaf::Rsa, Behind::Issuer, &["-tls1_2", "-cipher", "ECDHE-RSA-AES128-SHA"], &["old-suites-alone"]),
    (
        "RSA key transport alone",
        Leaf::Rsa,
        Behind::Issuer,
        &["-tls1_2", "-cipher", "AES128-GCM-SHA256"],
        &["old-suites-alone"],
    ),
    ("no curves", Leaf::Rsa, Behind::Issuer, &["-tls1_2", "-cipher", "DHE-RSA-AES128-GCM-SHA256"], &["tls-not-spoken"]),
    ("Camellia alone", Leaf::Rsa, Behind::Issuer, &["-tls1_2", "-cipher", "CAMELLIA128-SHA"], &["tls-not-spoken"]),
    (
        "no encryption too",
        Leaf::Rsa,
        Behind::Issuer,
        &["-cipher", LOOSE, "-min_protocol", "TLSv1.2"],
        &["weak-cipher-accepted"],
    ),
    (
        "no authentication too",
        Leaf::Rsa,
        Behind::Issuer,
        &["-cipher", "ALL:aNULL:@SECLEVEL=0", "-min_protocol", "TLSv1.2"],
        &["weak-cipher-accepted"],
    ),
];

/// The findings about a server, and what was seen of it.
fn codes(authority: &Authority, address: SocketAddr) -> (Vec<String>, Value) {
    let target = format!("{NAME}:{}", address.port());
    let mut command = brightharbor();
    command.args(["certificate", "check", &target, "--at", "127.0.0.1", "--json"]).env("BRIGHTHARBOR", "/nowhere");
    let done = run(command.env("SSL_CERT_FILE", authority.folder.path().join("root.pem")));
    let seen: Value = serde_json::from_str(&done.stdout).unwrap_or_else(|error| panic!("{error}: {done:?}"));
    let findings = seen["servers"][0]["findings"].as_array().unwrap().clone();
    (findings.iter().map(|finding| finding["code"].as_str().unwrap().to_string()).collect(), seen)
}

fn judged(authority: &Authority, (name, leaf, behind, more, expected): &Kind) -> Result<(), String> {
    let files = authority.leaf(*leaf, *behind);
    let [own, behind_it, key] = files.each_ref().map(|file| file.to_str().unwrap());
    let chain: &[&str] = if *behind == Behind::Nothing { &[] } else { &["-cert_chain", behind_it] };
    let address = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let _server = Server::spawn(
        Command::new(need("openssl", "openssl"))
            .args(["s_server", "-quiet", "-www", "-accept", &address.to_string()])
            .args(["-cert", own, "-key", key])
            .args(chain)
            .args(*more)
            .stdout(Stdio::null())
            .stderr(Stdio::null()),
    );
    await_listener(address);
    let (found, seen) = codes(authority, address);
    if found == *expected { Ok(()) } else { Err(format!("{name}: {found:?}, not {expected:?}: {seen}")) }
}

#[test]
fn each_kind_has_the_findings_that_it_deserves_and_a_good_one_has_none() {
    let healthy = KINDS.iter().filter(|kind| kind.4.is_empty()).count();
    assert!(KINDS.len() + 3 >= 40 && healthy >= 12, "{} {healthy}", KINDS.len());
    let authority = Authority::new();
    let (next, wrong) = (Mutex::new(KINDS.iter()), Mutex::new(Vec::new()));
    std::thread::scope(|scope| {
        for _ in 0..6 {
            scope.spawn(|| {
                loop {
                    let Some(kind) = next.lock().unwrap().next() else { return };
                    if let Err(why) = judged(&authority, kind) {
                        wrong.lock().unwrap().push(why);
                    }
                }
            });
        }
    });
    let wrong = wrong.into_inner().unwrap();
    assert!(wrong.is_empty(), "{}", wrong.join("\n\n"));
    assert!(authority.root.key().serialize_pem().contains("PRIVATE KEY"));
}

/// What is no TLS: nobody listens, somebody says nothing, somebody speaks http.
#[test]
fn servers_without_tls_end_with_their_reason() {
    let authority = Authority::new();
    let closed = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let plain = TcpListener::bind("127.0.0.1:0").unwrap();
    let silent = TcpListener::bind("127.0.0.1:0").unwrap();
    let (plain_at, silent_at) = (plain.local_addr().unwrap(), silent.local_addr().unwrap());
    std::thread::spawn(move || {
        for mut stream in plain.incoming().flatten() {
            let _ = stream.read(&mut [0; 1024]);
            let _ = stream.write_all(b"HTTP/1.1 400 Bad Request\r\nConnection: close\r\n\r\n");
        }
    });
    for (address, words) in [(closed, "refused"), (plain_at, "not TLS"), (silent_at, "did not answer")] {
        let (found, seen) = codes(&authority, address);
        assert_eq!(found, ["tls-not-spoken"], "{seen}");
        let why = seen["servers"][0]["failed"].as_str().unwrap();
        assert!(why.contains(words), "{words}: {why}");
    }
    drop(silent);
}

/// Passes everything on, but spoils the keys that the server sends for the exchange (ServerKeyExchange, RFC 8422 section 5.4).
fn spoiling(to: SocketAddr) -> SocketAddr {
    const HEADER: usize = 5;
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    std::thread::spawn(move || {
        for visitor in listener.incoming().flatten() {
            let Ok(server) = TcpStream::connect(to) else { continue };
            let (mut said, mut on) = (visitor.try_clone().unwrap(), server.try_clone().unwrap());
            std::thread::spawn(move || std::io::copy(&mut said, &mut on));
            std::thread::spawn(move || -> std::io::Result<()> {
                let (mut server, mut visitor) = (server, visitor);
                loop {
                    let mut record = vec![0; HEADER];
                    server.read_exact(&mut record)?;
                    let length = usize::from(u16::from_be_bytes([record[3], record[4]]));
                    record.resize(HEADER + length, 0);
                    server.read_exact(&mut record[HEADER..])?;
                    // The kind of curve, behind kind and length of the message.
                    if record[0] == 22 && record[HEADER] == 12 {
                        record[HEADER + 4] ^= 1;
                    }
                    visitor.write_all(&record)?;
                }
            });
        }
    });
    address
}

#[test]
fn a_handshake_that_breaks_behind_the_certificate_has_failed_though_the_certificate_is_seen() {
    let authority = Authority::new();
    let [own, behind, key] = authority.leaf(Leaf::Ec, Behind::Issuer);
    let address = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let _server = Server::spawn(
        Command::new(need("openssl", "openssl"))
            .args(["s_server", "-quiet", "-www", "-tls1_2", "-accept", &address.to_string(), "-cert"])
            .args([&own, Path::new("-key"), &key, Path::new("-cert_chain"), &behind] as [&Path; 5])
            .stdout(Stdio::null())
            .stderr(Stdio::null()),
    );
    await_listener(address);
    let (found, seen) = codes(&authority, address);
    assert!(found.is_empty(), "as it is without the proxy: {seen}");
    let (found, seen) = codes(&authority, spoiling(address));
    assert_eq!(found[0], "tls-not-spoken", "{seen}");
    assert_eq!(seen["servers"][0]["names"][0], NAME, "{seen}");
    assert!(seen["servers"][0]["failed"].is_string(), "{seen}");
}

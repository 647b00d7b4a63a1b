//! The RFC 8555 test CA of the `pebble` package, asking a resolver of the test.

use std::collections::BTreeMap;
use std::fs;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use brightharbor_io::http::Connection;
use brightharbor_io::trust;
use brightharbor_standins::Cast;
use rcgen::{CertificateParams, KeyPair, SanType};

use super::servers::{Server, await_listener, need};

pub struct Ca {
    _server: Server,
    management: SocketAddr,
    pub directory: String,
    /// What the CA's own https is verified with.
    pub https_root: PathBuf,
    /// What its certificates are verified with.
    pub root: PathBuf,
}

/// How this CA is to behave.
#[derive(Default)]
pub struct Manner {
    /// Accounts must be bound to customers: the identifier and the key, base64url.
    pub customer: Option<(&'static str, &'static str)>,
    /// Roots beside the first, each with a chain of its own.
    pub alternate_roots: u8,
    /// How many of 100 authorizations are taken from earlier orders.
    pub reuse: u8,
    /// How many of 100 nonces are refused.
    pub refused_nonces: u8,
    /// How long its certificates live, in seconds, if not for years.
    pub lifetime: Option<u64>,
}

pub fn start_ca_with(cast: &Cast, folder: &Path, manner: &Manner) -> Ca {
    let program = need("pebble", "pebble");
    let files = folder.join("ca");
    fs::create_dir_all(&files).unwrap();
    let key = KeyPair::generate().unwrap();
    let mut params = CertificateParams::default();
    params.subject_alt_names = vec![SanType::IpAddress(cast.ca())];
    let certificate = params.self_signed(&key).unwrap();
    let https_root = files.join("https.pem");
    fs::write(&https_root, certificate.pem()).unwrap();
    fs::write(files.join("https.key"), key.serialize_pem()).unwrap();
    let free = || std::net::TcpListener::bind((cast.ca(), 0)).unwrap().local_addr().unwrap();
    let (main, management) = (free(), free());
    let config = serde_json::json!({ "pebble": {
        "listenAddress": main.to_string(),
        "managementListenAddress": management.to_string(),
        "certificate": https_root.display().to_string(),
        "privateKey": files.join("https.key").display().to_string(),
        "httpPort": cast.http_port,
        "tlsPort": cast.https_port,
        "ocspResponderURL": "",
        "externalAccountBindingRequired": manner.customer.is_some(),
        "externalAccountMACKeys": manner.customer.iter().map(|(id, key)| (id.to_string(), key.to_string()))
            .collect::<BTreeMap<_, _>>(),
    }});
    let mut config = config;
    if let Some(seconds) = manner.lifetime {
        config["pebble"]["certificateValidityPeriod"] = seconds.into();
    }
    fs::write(files.join("config.json"), config.to_string()).unwrap();
    let server = Server::spawn(
        Command::new(program)
            .arg("-config")
            .arg(files.join("config.json"))
            .arg("-dnsserver")
            .arg(SocketAddr::new(cast.resolver(), cast.dns_port).to_string())
            .env("PEBBLE_WFE_NONCEREJECT", manner.refused_nonces.to_string())
            .env("PEBBLE_AUTHZREUSE", manner.reuse.to_string())
            .env("PEBBLE_ALTERNATE_ROOTS", manner.alternate_roots.to_string())
            .env("PEBBLE_VA_NOSLEEP", "1")
            .stdout(Stdio::null())
            .stderr(Stdio::null()),
    );
    await_listener(main);
    await_listener(management);
    let root = files.join("root.pem");
    let ca = Ca { _server: server, management, directory: format!("https://{main}/dir"), https_root, root };
    fs::write(&ca.root, ca.fetch_root(0)).unwrap();
    ca
}

impl Ca {
    /// One of its roots, PEM.
    pub fn fetch_root(&self, number: u8) -> Vec<u8> {
        fetch_root(self.management, number, &self.https_root)
    }
}

fn fetch_root(management: SocketAddr, number: u8, https_root: &Path) -> Vec<u8> {
    let client = trust::client(trust::roots(&[https_root.to_path_buf()]).unwrap());
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    runtime.block_on(async {
        let (host, authority) = (management.ip().to_string(), management.to_string());
        let mut connection = Connection::open(management, &host, &authority, Some(client)).await.unwrap();
        let answer = connection.send("GET", &format!("/roots/{number}"), &[], vec![], 100_000).await.unwrap();
        assert_eq!(answer.status, 200);
        answer.body
    })
}

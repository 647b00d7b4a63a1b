//! The RFC 8555 test CA of the `pebble` package, asking a resolver of the test.

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
    pub directory: String,
    /// What the CA's own https is verified with.
    pub https_root: PathBuf,
    /// What its certificates are verified with.
    pub root: PathBuf,
}

pub fn start_ca(cast: &Cast, folder: &Path) -> Ca {
    let program = need("pebble", "pebble");
    let files = folder.join("ca");
    fs::create_dir(&files).unwrap();
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
        "externalAccountBindingRequired": false,
    }});
    fs::write(files.join("config.json"), config.to_string()).unwrap();
    let server = Server::spawn(
        Command::new(program)
            .arg("-config")
            .arg(files.join("config.json"))
            .arg("-dnsserver")
            .arg(SocketAddr::new(cast.resolver(), cast.dns_port).to_string())
            // One nonce in five is refused on purpose.
            .env("PEBBLE_WFE_NONCEREJECT", "20")
            .env("PEBBLE_VA_NOSLEEP", "1")
            .stdout(Stdio::null())
            .stderr(Stdio::null()),
    );
    await_listener(main);
    await_listener(management);
    let root = files.join("root.pem");
    fs::write(&root, fetch_root(management, &https_root)).unwrap();
    Ca { _server: server, directory: format!("https://{main}/dir"), https_root, root }
}

fn fetch_root(management: SocketAddr, https_root: &Path) -> Vec<u8> {
    let client = trust::client(trust::roots(&[https_root.to_path_buf()]).unwrap());
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    runtime.block_on(async {
        let (host, authority) = (management.ip().to_string(), management.to_string());
        let mut connection = Connection::open(management, &host, &authority, Some(client)).await.unwrap();
        let answer = connection.send("GET", "/roots/0", &[], vec![], 100_000).await.unwrap();
        assert_eq!(answer.status, 200);
        answer.body
    })
}

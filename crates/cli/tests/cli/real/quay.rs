//! A harbor without web server, and a real DNS server of its own at the nameservers' address.

use std::fs;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::process::Command;

use brightharbor_core::name::DnsName;
use brightharbor_core::zone::Record;
use brightharbor_io::dns::{TransactionKey, transfer};
use brightharbor_standins::World;
use serde_json::Value;

use super::nameservers::{TRANSFER, UPDATE};
use super::servers::{Server, need, open_folder, start_bind_with};
use crate::coast::{Run, brightharbor, run};

pub struct Quay {
    pub world: World,
    pub folder: tempfile::TempDir,
    /// The words of the server's remote control.
    control: Vec<String>,
    server: Option<Server>,
}

impl Quay {
    /// Lays out a harbor for a server; `start` starts it and gives the words of its remote control.
    pub fn new(
        server: &str,
        check: &str,
        more_settings: &str,
        start: impl FnOnce(&World, &Path) -> (Server, Vec<String>),
    ) -> Self {
        let folder = open_folder();
        fs::create_dir(folder.path().join("homes")).unwrap();
        let world = World::start_around(folder.path()).unwrap();
        let at = world.cast.dns_port;
        TRANSFER.write(folder.path());
        UPDATE.write(folder.path());
        let settings = |control: &[String]| {
            format!(
                "[host]\naddresses = [\"192.0.2.10\"]\n\
                 nameservers = [\"ns1.saltmarsh.example.\", \"ns2.saltmarsh.example.\"]\n\
                 [sites]\nhome = \"{homes}/{{account}}\"\n\
                 [internet]\nroot-servers = [\"{root}\"]\nresolvers = [\"{resolver}\"]\ndns-port = {at}\n\
                 [dns]\nserver = \"{server}\"\ncheck = [\"{check}\"]\naddress = \"127.0.0.1:{at}\"\n\
                 control-command = {control:?}\n{more}",
                homes = folder.path().join("homes").display(),
                root = world.cast.root(),
                resolver = world.cast.resolver(),
                check = need(check, "bind9-utils, knot-dnssecutils or nsd").display(),
                more = more_settings.replace("{keys}", &folder.path().display().to_string()),
            )
        };
        // The server includes the zone list, so that the harbor is laid out before it starts.
        let harbor = folder.path().join("harbor");
        let file = folder.path().join("settings.toml");
        fs::write(&file, settings(&[])).unwrap();
        let laid_out =
            run(brightharbor().args(["init", "--settings", file.to_str().unwrap()]).env("BRIGHTHARBOR", &harbor));
        assert!(laid_out.exit == 3, "{laid_out:?}");
        let (running, control) = start(&world, folder.path());
        fs::write(harbor.join("harbor.toml"), settings(&control)).unwrap();
        let quay = Self { world, folder, control, server: Some(running) };
        quay.run(&["account", "add", "boatyard", "--email", "yard@saltmarsh.example"]).expect(0);
        quay
    }

    /// With BIND, further lines of its main file, and further options.
    pub fn bind(more_settings: &str, more: &str, options: &str) -> Self {
        Self::new("bind", "named-checkzone", more_settings, |world, folder| {
            let list = folder.join("harbor/servers/bind/zones.conf");
            let keys = TRANSFER.text() + &UPDATE.text();
            let more = more.replace("{folder}", &folder.display().to_string());
            start_bind_with(&world.cast, folder, &format!("{keys}include \"{}\";\n{more}", list.display()), options)
        })
    }

    /// Further lines at the end of harbor.toml, which is the table `[dns]`.
    pub fn settle(&self, more: &str) {
        let file = self.path("harbor/harbor.toml");
        let keys = self.folder.path().display().to_string();
        let text = fs::read_to_string(&file).unwrap() + &more.replace("{keys}", &keys);
        fs::write(&file, text).unwrap();
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

    /// Ends the server, as a crash would.
    pub fn stop_server(&mut self) {
        self.server = None;
    }

    /// Tells the server something, as an administrator would.
    pub fn control(&self, order: &[&str]) {
        let output = Command::new(&self.control[0]).args(&self.control[1..]).args(order).output().unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    }

    /// What the server answers to an order, whatever it is.
    pub fn says(&self, order: &[&str]) -> String {
        let output = Command::new(&self.control[0]).args(&self.control[1..]).args(order).output().unwrap();
        String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr)
    }

    pub fn server(&self) -> SocketAddr {
        SocketAddr::new(self.world.cast.nameservers()[0], self.world.cast.dns_port)
    }

    pub fn key(&self, name: &str) -> TransactionKey {
        TransactionKey::read(&self.path(&format!("{name}.key"))).unwrap()
    }

    /// The zone as the server here gives it away to the holder of a key.
    pub fn held(&self, zone: &str, key: &str) -> Vec<Record> {
        block_on(transfer(self.server(), &DnsName::absolute(zone).unwrap(), Some(&self.key(key)))).unwrap()
    }
}

pub fn block_on<T>(work: impl Future<Output = T>) -> T {
    tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap().block_on(work)
}

/// All records but the start of authority, one a line, in order.
pub fn lines(records: &[Record]) -> Vec<String> {
    let mut lines: Vec<String> = records.iter().map(Record::to_string).filter(|line| !line.contains(" SOA ")).collect();
    lines.sort();
    lines
}

/// The same from another program's reading of a file.
pub fn compiled(file: &Path, zone: &str) -> Vec<String> {
    let program = need("named-compilezone", "bind9-utils");
    let output = Command::new(program).args(["-q", "-i", "local", "-o", "-", zone]).arg(file).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let squeeze = |line: &str| line.split_whitespace().collect::<Vec<_>>().join(" ");
    let mut lines: Vec<String> = text.lines().map(squeeze).filter(|line| !line.contains(" SOA ")).collect();
    lines.sort();
    lines.dedup();
    lines
}

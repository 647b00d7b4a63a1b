//! A harbor in a temporary folder, inside a miniature internet of its own, and the binary to drive it.

use std::path::{Path, PathBuf};
use std::process::{Command, Output};

use brightharbor_core::certificate::Certificate;
use brightharbor_core::change::{ChangeSet, InventoryChange};
use brightharbor_core::harbor::Layout;
use brightharbor_core::name::Host;
use brightharbor_io::store::Store;
use brightharbor_standins::World;
use serde_json::Value;

use crate::schemas;

pub struct Coast {
    pub world: World,
    pub folder: tempfile::TempDir,
}

/// What a run of the binary came to.
#[derive(Debug)]
pub struct Run {
    pub exit: i32,
    pub stdout: String,
    pub stderr: String,
}

impl From<Output> for Run {
    fn from(output: Output) -> Self {
        Self {
            exit: output.status.code().unwrap_or(-1),
            stdout: String::from_utf8_lossy(&output.stdout).into_owned(),
            stderr: String::from_utf8_lossy(&output.stderr).into_owned(),
        }
    }
}

impl Run {
    /// Checks the exit code, and gives the output with all blanks folded, so that wrapping does not matter.
    #[track_caller]
    pub fn expect(self, exit: i32) -> String {
        assert_eq!(self.exit, exit, "stdout:\n{}\nstderr:\n{}", self.stdout, self.stderr);
        (self.stdout + &self.stderr).split_whitespace().collect::<Vec<_>>().join(" ")
    }
}

/// The binary with a clean environment, on no harbor.
pub fn brightharbor() -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_brightharbor"));
    command.env_remove("BRIGHTHARBOR").env_remove("COLUMNS").env("NO_COLOR", "1").env("TZ", "UTC");
    command
}

/// Runs it to its end. A document that it prints is held against its schema.
#[track_caller]
pub fn run(command: &mut Command) -> Run {
    let run: Run = command.output().expect("the binary starts").into();
    schemas::check(&run.stdout);
    run
}

impl Coast {
    /// [`Coast::new`] with the bakery's site, delegated here and secured.
    pub fn with_bakery() -> Self {
        let coast = Self::new();
        coast.delegate_here("crumbandtide.example");
        coast.run(&["attach", "crumbandtide.example", "--account", "bakery"]).expect(0);
        coast
    }

    /// A world with a harbor in it and the account `bakery`.
    pub fn new() -> Self {
        let coast = Self::empty();
        let settings = coast.path("settings.toml");
        std::fs::write(&settings, coast.world.settings()).unwrap();
        coast.run(&["init", "--settings", settings.to_str().unwrap()]).expect(0);
        coast.run(&["account", "add", "bakery", "--email", "baker@saltmarsh.example"]).expect(0);
        coast
    }

    /// A world without a harbor.
    pub fn empty() -> Self {
        let folder = tempfile::tempdir().unwrap();
        std::fs::create_dir(folder.path().join("homes")).unwrap();
        Self { world: World::start(folder.path()).unwrap(), folder }
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    pub fn harbor(&self) -> PathBuf {
        self.path("harbor")
    }

    pub fn command(&self, arguments: &[&str]) -> Command {
        let mut command = brightharbor();
        command.args(arguments).env("BRIGHTHARBOR", self.harbor());
        command
    }

    pub fn run(&self, arguments: &[&str]) -> Run {
        run(&mut self.command(arguments))
    }

    /// Runs with `--json` and reads the one document.
    #[track_caller]
    pub fn json(&self, arguments: &[&str], exit: i32) -> Value {
        let document = self.document(arguments);
        assert_eq!(document["exit"], exit, "{document}");
        document
    }

    /// The same for what is done, whether all links hold by now or something is still waited for: caches take their time.
    #[track_caller]
    pub fn done(&self, arguments: &[&str]) -> Value {
        let document = self.document(arguments);
        assert!(document["exit"] == 0 || document["exit"] == 3, "{document}");
        document
    }

    /// The same for what tells of a state, whatever that comes to.
    #[track_caller]
    pub fn done_or_not(&self, arguments: &[&str]) -> Value {
        self.document(arguments)
    }

    #[track_caller]
    fn document(&self, arguments: &[&str]) -> Value {
        let run = run(self.command(arguments).arg("--json"));
        let value: Value = serde_json::from_str(&run.stdout).unwrap_or_else(|error| panic!("{error}: {run:?}"));
        assert_eq!((&value["format"], &value["exit"]), (&Value::from(1), &Value::from(run.exit)));
        value
    }

    /// The certificate of a site as if something else were known of it.
    pub fn record_certificate(&self, site: &str, change: impl FnOnce(Certificate) -> Certificate) {
        self.record_certificates_like(site, |present| vec![change(present)]);
    }

    /// Writes what `change` makes of the certificate of this site, for any sites.
    pub fn record_certificates_like(&self, site: &str, change: impl FnOnce(Certificate) -> Vec<Certificate>) {
        let mut store = Store::open(&Layout::new(self.harbor()).inventory()).unwrap();
        let present = store.certificate_of(&Host::parse(site).unwrap()).unwrap().unwrap();
        let mut set = ChangeSet::new("as if it came from there");
        change(present).into_iter().for_each(|made| set.inventory(InventoryChange::RecordCertificate(made)));
        let entry = store.next_entry().unwrap();
        store.begin(entry, jiff::Timestamp::UNIX_EPOCH, "tester", &set, &[]).unwrap();
        store.commit(entry, &set).unwrap();
    }

    /// The type of the address records in this world.
    pub fn address_type(&self) -> &'static str {
        self.world.cast.family().record_type()
    }

    /// An address of that type where nobody is.
    pub fn nowhere(&self) -> &'static str {
        if self.address_type() == "A" { "192.0.2.77" } else { "2001:db8::77" }
    }

    /// The registrar's customer moves the domain to the provider.
    pub fn delegate_here(&self, domain: &str) {
        let names = ["ns1.saltmarsh.example", "ns2.saltmarsh.example"];
        self.world.registrar.set_nameservers(domain, &names).unwrap();
    }
}

/// Every file below a folder with its content, for "nothing was changed". Left out is what only a lock or a read
/// touches.
pub fn snapshot(folder: &Path) -> Vec<(PathBuf, Vec<u8>)> {
    let mut files = Vec::new();
    let mut folders = vec![folder.to_path_buf()];
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            let name = path.file_name().unwrap().to_string_lossy().into_owned();
            if path.is_dir() && !path.is_symlink() {
                folders.push(path);
            } else if name != "lock" && !name.starts_with("inventory.sqlite") {
                files.push((path.clone(), std::fs::read(&path).unwrap_or_default()));
            }
        }
    }
    files.sort();
    files
}

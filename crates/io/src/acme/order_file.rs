//! Where one site's order is kept between runs: its state, the key that is to be certified, and the proofs in place.
//!
//! One file for each order, to which every step adds a line; what was said last holds. A line that a kill or a crash has
//! cut off was not said. A file for each step, renamed into place, costs the disk more than the order costs the CA.

use std::fs::{self, File, OpenOptions};
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use brightharbor_core::acme::{Brief, Machine, Proof, State};
use brightharbor_core::name::Host;
use serde::{Deserialize, Serialize};
use zeroize::Zeroizing;

use super::order::{OrderError, OrderPlan};
use super::session::{CaFolder, Session};
use crate::install::{FileError, failed};
use crate::keys::new_key_of;

/// One site's order: 0600 in the CA's folder of 0700.
pub(super) struct OrderFile {
    path: PathBuf,
    /// Open for more, once something was said.
    open: Option<File>,
    said: Said,
}

/// What the lines of the file come to.
#[derive(Default)]
struct Said {
    machine: Option<Machine>,
    key_pem: Option<Zeroizing<String>>,
    proofs: Vec<Proof>,
    /// Where the whole lines end, if something is behind them.
    cut: Option<u64>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
enum Line<'a> {
    Order(&'a Machine),
    Key(&'a str),
    Proofs(&'a [Proof]),
}

#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
enum ReadLine {
    Order(Box<Machine>),
    Key(String),
    Proofs(Vec<Proof>),
}

impl OrderFile {
    /// Reads what an earlier run has left, if anything.
    pub fn read(session: &Session, site: &Host) -> Self {
        Self::at(path_of(&session.folder, site))
    }

    fn at(path: PathBuf) -> Self {
        let said = fs::read(&path).map(|text| Said::read(&Zeroizing::new(text))).unwrap_or_default();
        Self { path, open: None, said }
    }

    pub fn is_begun(&self) -> bool {
        self.said.machine.is_some()
    }

    /// An order for the same names with the same key, if one was left midway.
    pub fn resume(&mut self, brief: &Brief) -> Result<Option<Machine>, FileError> {
        let Some(machine) = self.said.machine.take() else { return Ok(None) };
        let over = matches!(machine.state(), State::Refused { .. });
        if !over && machine.brief() == brief && machine.is_sound() {
            return Ok(Some(machine));
        }
        // Its proofs may still be somewhere.
        let proofs = std::mem::take(&mut self.said.proofs);
        self.forget();
        if !proofs.is_empty() {
            self.keep_proofs(&proofs)?;
        }
        Ok(None)
    }

    pub fn keep(&mut self, machine: &Machine) -> Result<(), FileError> {
        self.say(&Line::Order(machine))
    }

    pub fn keep_proofs(&mut self, proofs: &[Proof]) -> Result<(), FileError> {
        self.say(&Line::Proofs(proofs))
    }

    /// Where proofs were put by an earlier run.
    pub fn proofs(&self) -> &[Proof] {
        &self.said.proofs
    }

    /// The key of this order: the same one however often the order is resumed.
    pub fn certificate_key(&mut self, plan: &OrderPlan<'_>) -> Result<Zeroizing<String>, OrderError> {
        if let Some(pem) = &self.said.key_pem {
            return Ok(pem.clone());
        }
        let pem = match &plan.key_pem {
            Some(pem) => pem.clone(),
            None => new_key_of(plan.wish.key)?,
        };
        self.say(&Line::Key(&pem))?;
        self.said.key_pem = Some(pem.clone());
        Ok(pem)
    }

    pub fn forget(&mut self) {
        let _ = fs::remove_file(&self.path);
        self.open = None;
        self.said = Said::default();
    }

    fn say(&mut self, line: &Line<'_>) -> Result<(), FileError> {
        let mut text = Zeroizing::new(serde_json::to_vec(line).expect("what is kept of an order becomes JSON"));
        text.push(b'\n');
        let file = match &mut self.open {
            Some(file) => file,
            none => none.insert(open(&self.path, self.said.cut)?),
        };
        file.write_all(&text).map_err(failed("cannot write", &self.path))
    }
}

/// Opens the file for more lines, behind those that are whole.
fn open(path: &Path, cut: Option<u64>) -> Result<File, FileError> {
    let file = OpenOptions::new().create(true).append(true).mode(0o600).open(path);
    let file = file.map_err(failed("cannot write", path))?;
    if let Some(length) = cut {
        file.set_len(length).map_err(failed("cannot write", path))?;
    }
    Ok(file)
}

impl Said {
    fn read(text: &[u8]) -> Self {
        let (mut said, mut whole) = (Self::default(), 0);
        for line in text.split_inclusive(|octet| *octet == b'\n') {
            match serde_json::from_slice(line) {
                Ok(_) if !line.ends_with(b"\n") => break,
                Ok(ReadLine::Order(machine)) => said.machine = Some(*machine),
                Ok(ReadLine::Key(pem)) => said.key_pem = Some(Zeroizing::new(pem)),
                Ok(ReadLine::Proofs(proofs)) => said.proofs = proofs,
                // Nothing behind it can be trusted either.
                Err(_) => break,
            }
            whole += line.len();
        }
        said.cut = (whole < text.len()).then_some(whole as u64);
        said
    }
}

fn path_of(folder: &CaFolder, site: &Host) -> PathBuf {
    folder.orders().join(format!("{site}.order"))
}

/// The order's state has been installed and is not needed any more.
pub fn forget_order(session: &Session, site: &Host) {
    let _ = fs::remove_file(path_of(&session.folder, site));
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt;

    use brightharbor_core::acme::{Identifier, ProofKind};

    use super::*;

    fn machine(name: &str) -> Machine {
        let brief = Brief {
            directory_url: "https://ca.example/directory".into(),
            names: vec![Host::parse(name).unwrap()],
            wildcards: vec![],
            proof: Default::default(),
            contact: None,
            terms_accepted: true,
            thumbprint: "t".into(),
            external_account: None,
            preferred_chain: None,
            profile: None,
            stapled: false,
            replaces: None,
        };
        Machine::new(brief, None)
    }

    fn proof(content: &str) -> Proof {
        let identifier = Identifier::from(Host::parse("crumbandtide.example").unwrap());
        Proof {
            kind: ProofKind::Dns01,
            identifier,
            token: "token".into(),
            content: content.into(),
            challenge_url: "https://ca.example/challenge/1".into(),
            authorization_url: "https://ca.example/authorization/1".into(),
        }
    }

    #[test]
    fn what_was_said_last_holds_and_a_line_cut_off_anywhere_was_not_said() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("crumbandtide.example.order");
        let mut file = OrderFile::at(path.clone());
        assert!(!file.is_begun());
        file.keep(&machine("crumbandtide.example")).unwrap();
        file.keep_proofs(&[proof("one")]).unwrap();
        file.say(&Line::Key("a key")).unwrap();
        let before = fs::read(&path).unwrap();
        file.keep_proofs(&[proof("two")]).unwrap();
        assert_eq!(fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
        let whole = fs::read(&path).unwrap();
        for end in before.len()..=whole.len() {
            fs::write(&path, &whole[..end]).unwrap();
            let mut again = OrderFile::at(path.clone());
            let expected = if end == whole.len() { "two" } else { "one" };
            assert_eq!(again.proofs(), [proof(expected)], "cut at {end}");
            assert_eq!(again.said.key_pem.as_ref().unwrap().as_str(), "a key");
            again.keep_proofs(&[proof("three")]).unwrap();
            let third = OrderFile::at(path.clone());
            assert_eq!(third.proofs(), [proof("three")], "cut at {end}");
            assert!(third.is_begun());
        }
    }

    #[test]
    fn an_order_for_other_names_is_forgotten_with_its_key_but_not_with_its_proofs() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("crumbandtide.example.order");
        let mut file = OrderFile::at(path.clone());
        let old = machine("crumbandtide.example");
        file.keep(&old).unwrap();
        file.say(&Line::Key("a key")).unwrap();
        file.keep_proofs(&[proof("left")]).unwrap();
        assert_eq!(OrderFile::at(path.clone()).resume(old.brief()).unwrap(), Some(old.clone()));
        let other = machine("www.crumbandtide.example");
        assert_eq!(OrderFile::at(path.clone()).resume(other.brief()).unwrap(), None);
        let left = OrderFile::at(path.clone());
        assert!(!left.is_begun() && left.said.key_pem.is_none());
        assert_eq!(left.proofs(), [proof("left")]);
        OrderFile::at(path.clone()).forget();
        assert!(!path.exists());
    }
}

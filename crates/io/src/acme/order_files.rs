//! Where one site's order is kept between runs: its state, the key that is to be certified, and the proofs in place.

use std::fs;
use std::path::PathBuf;

use brightharbor_core::acme::{Brief, Machine, Proof, State};
use brightharbor_core::name::Hostname;
use zeroize::Zeroizing;

use super::order::{OrderError, OrderPlan};
use super::session::Session;
use crate::install::{FileError, write_soon};
use crate::keys::new_key_of;

/// Where one site's order is kept: all 0600 in the CA's folder of 0700.
pub(super) struct OrderFiles {
    state: PathBuf,
    key: PathBuf,
    proofs: PathBuf,
}

impl OrderFiles {
    pub fn new(session: &Session, site: &Hostname) -> Self {
        let order = |ending: &str| session.folder.orders().join(format!("{site}.{ending}"));
        Self { state: order("json"), key: order("pem"), proofs: order("proofs") }
    }

    pub fn is_begun(&self) -> bool {
        self.state.exists()
    }

    /// An order for the same names with the same key, if one was left midway.
    pub fn resume(&self, brief: &Brief) -> Option<Machine> {
        let machine: Machine = serde_json::from_slice(&fs::read(&self.state).ok()?).ok()?;
        let over = matches!(machine.state(), State::Refused { .. });
        let same = machine.brief() == brief && machine.is_sound();
        if over || !same {
            self.forget();
            return None;
        }
        Some(machine)
    }

    pub fn keep(&self, machine: &Machine) -> Result<(), FileError> {
        let text = serde_json::to_vec(machine).expect("a machine becomes JSON");
        write_soon(&self.state, &text, 0o600)
    }

    pub fn keep_proofs(&self, proofs: &[Proof]) -> Result<(), FileError> {
        let text = serde_json::to_vec(proofs).expect("proofs become JSON");
        write_soon(&self.proofs, &text, 0o600)
    }

    pub fn proofs(&self) -> Vec<Proof> {
        let read = fs::read(&self.proofs).ok().and_then(|text| serde_json::from_slice(&text).ok());
        read.unwrap_or_default()
    }

    /// The key of this order: the same one however often the order is resumed.
    pub fn certificate_key(&self, plan: &OrderPlan<'_>) -> Result<Zeroizing<String>, OrderError> {
        if let Ok(pem) = fs::read_to_string(&self.key) {
            return Ok(Zeroizing::new(pem));
        }
        let pem = match &plan.key_pem {
            Some(pem) => pem.clone(),
            None => Zeroizing::new(new_key_of(plan.wish.key)?),
        };
        write_soon(&self.key, pem.as_bytes(), 0o600)?;
        Ok(pem)
    }

    pub fn forget(&self) {
        for file in [&self.state, &self.key, &self.proofs] {
            let _ = fs::remove_file(file);
        }
    }
}

//! One order from the directory to the certificate, saved after every step.

use std::fs;
use std::path::PathBuf;
use std::time::{Duration, Instant};

use brightharbor_core::acme::{Brief, Machine, Proof, Refusal, State, Step};
use brightharbor_core::change::content_hash;
use brightharbor_core::harbor::{Ca, Layout};
use brightharbor_core::name::Hostname;
use jiff::Timestamp;

use super::account_key::{AccountKey, AccountKeyError};
use super::proofs::Placed;
use super::wire::Wire;
use crate::install::{FileError, make_private_folder, write_atomically};
use crate::keys::{KeyError, certificate_request, new_key_pem};
use crate::trust::{self, TrustError};

/// An order that takes longer goes on with the next run.
const LONGEST: Duration = Duration::from_secs(180);
/// Steps of one run; an ordinary order takes about fifteen and a few more for each name.
const MOST_STEPS: usize = 2_000;

#[derive(Debug, thiserror::Error)]
pub enum OrderError {
    #[error("the settings name no CA")]
    NoCa,
    #[error(transparent)]
    Refused(Refusal),
    #[error("the CA is still at work; the order goes on with the next run{}", .not_before.map(|time| format!(", not before {time}")).unwrap_or_default())]
    StillAtWork { not_before: Option<Timestamp> },
    #[error(transparent)]
    Trust(#[from] TrustError),
    #[error(transparent)]
    Account(#[from] AccountKeyError),
    #[error(transparent)]
    File(#[from] FileError),
    #[error(transparent)]
    Key(#[from] KeyError),
}

/// What to order, and where its state is kept.
pub struct OrderPlan<'a> {
    pub site: &'a Hostname,
    pub names: &'a [Hostname],
    pub ca: &'a Ca,
    pub layout: &'a Layout,
}

/// A certificate as it came from the CA, with its key.
pub struct Issued {
    pub chain_pem: String,
    pub key_pem: String,
}

/// Orders a certificate for the names, or goes on with an order for them that was begun before.
pub async fn order(plan: &OrderPlan<'_>, tell: &dyn Fn(&'static str)) -> Result<Issued, OrderError> {
    let directory_url = plan.ca.directory.clone().ok_or(OrderError::NoCa)?;
    let tls = trust::client(trust::roots(plan.ca.trust_root.as_slice())?);
    let files = OrderFiles::new(plan, &directory_url)?;
    let key = AccountKey::load_or_make(&files.account_key)?;
    let brief = Brief {
        directory_url,
        names: plan.names.to_vec(),
        contact: plan.ca.contact.clone(),
        terms_accepted: plan.ca.terms_accepted,
        thumbprint: key.thumbprint(),
    };
    let mut machine = files.resume(&brief).unwrap_or_else(|| Machine::new(brief, files.account_url()));
    let mut wire = Wire::new(tls);
    let mut placed = Placed::none();
    // A resumed order may be past the placing of its proofs: the CA may still fetch them.
    placed.place(&plan.layout.proofs(), &files.proofs())?;
    let started = Instant::now();
    for _ in 0..MOST_STEPS {
        let now = crate::clock::now();
        tell(machine.state().name());
        match machine.next(now) {
            Step::Send(request) => {
                match wire.send(&key, &request).await {
                    Ok(response) => machine.received(&response, crate::clock::now()),
                    Err(reason) => machine.failed(&reason, crate::clock::now()),
                }
                files.keep_account(machine.account())?;
            }
            Step::PlaceProofs(proofs) => {
                files.keep_proofs(&proofs)?;
                placed.place(&plan.layout.proofs(), &proofs)?;
                machine.proofs_placed();
            }
            Step::WaitUntil(until) => {
                let pause = Duration::try_from(until.duration_since(now)).unwrap_or_default();
                if started.elapsed() + pause > LONGEST {
                    files.keep(&machine)?;
                    return Err(OrderError::StillAtWork { not_before: Some(until) });
                }
                tokio::time::sleep(pause).await;
            }
            Step::MakeRequest(names) => {
                let key_pem = files.certificate_key()?;
                machine.request_made(&certificate_request(&key_pem, &names)?);
            }
            Step::Finished { chain_pem } => {
                let key_pem = files.certificate_key()?;
                return Ok(Issued { chain_pem, key_pem });
            }
            Step::Refused(refusal) => {
                files.forget();
                return Err(OrderError::Refused(refusal));
            }
        }
        files.keep(&machine)?;
    }
    Err(OrderError::StillAtWork { not_before: None })
}

/// The order's state has been installed and is not needed any more.
pub fn forget_order(plan: &OrderPlan<'_>) {
    if let Some(Ok(files)) = plan.ca.directory.as_ref().map(|url| OrderFiles::new(plan, url)) {
        files.forget();
    }
}

/// Where one CA's account and one site's order are kept: `ca/HASH/`, all 0600 in 0700.
struct OrderFiles {
    account_key: PathBuf,
    account_url: PathBuf,
    state: PathBuf,
    key: PathBuf,
    proofs: PathBuf,
}

impl OrderFiles {
    fn new(plan: &OrderPlan<'_>, directory_url: &str) -> Result<Self, FileError> {
        let folder = plan.layout.ca().join(&content_hash(directory_url.as_bytes())[..16]);
        make_private_folder(&folder.join("orders"))?;
        let order = |ending: &str| folder.join("orders").join(format!("{}.{ending}", plan.site));
        Ok(Self {
            account_key: folder.join("account.pem"),
            account_url: folder.join("account.url"),
            state: order("json"),
            key: order("pem"),
            proofs: order("proofs"),
        })
    }

    fn account_url(&self) -> Option<String> {
        fs::read_to_string(&self.account_url).ok().map(|text| text.trim().to_string()).filter(|url| !url.is_empty())
    }

    fn keep_account(&self, url: Option<&str>) -> Result<(), FileError> {
        match url {
            Some(url) if self.account_url().as_deref() != Some(url) => {
                write_atomically(&self.account_url, url.as_bytes(), 0o600)
            }
            _ => Ok(()),
        }
    }

    /// An order for the same names with the same key, if one was left midway.
    fn resume(&self, brief: &Brief) -> Option<Machine> {
        let machine: Machine = serde_json::from_slice(&fs::read(&self.state).ok()?).ok()?;
        let over = matches!(machine.state(), State::Refused { .. });
        let same = machine.brief() == brief && machine.is_sound();
        if over || !same {
            self.forget();
            return None;
        }
        Some(machine)
    }

    fn keep(&self, machine: &Machine) -> Result<(), FileError> {
        let text = serde_json::to_vec(machine).expect("a machine becomes JSON");
        write_atomically(&self.state, &text, 0o600)
    }

    fn keep_proofs(&self, proofs: &[Proof]) -> Result<(), FileError> {
        let text = serde_json::to_vec(proofs).expect("proofs become JSON");
        write_atomically(&self.proofs, &text, 0o600)
    }

    fn proofs(&self) -> Vec<Proof> {
        let read = fs::read(&self.proofs).ok().and_then(|text| serde_json::from_slice(&text).ok());
        read.unwrap_or_default()
    }

    /// The key of this order: the same one however often the order is resumed.
    fn certificate_key(&self) -> Result<String, OrderError> {
        if let Ok(pem) = fs::read_to_string(&self.key) {
            return Ok(pem);
        }
        let pem = new_key_pem()?;
        write_atomically(&self.key, pem.as_bytes(), 0o600)?;
        Ok(pem)
    }

    fn forget(&self) {
        for file in [&self.state, &self.key, &self.proofs] {
            let _ = fs::remove_file(file);
        }
    }
}

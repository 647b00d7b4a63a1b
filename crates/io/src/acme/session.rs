//! One CA for the length of a command: the account's key, and what its orders share: directory, nonces, connections.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, SystemTime};

use brightharbor_core::acme::{Directory, Refusal};
use brightharbor_core::change::content_hash;
use brightharbor_core::harbor::{Ca, Layout};
use jiff::Timestamp;
use rustls::ClientConfig;
use tokio::sync::{Semaphore, SemaphorePermit};

use super::account_key::{AccountKey, AccountKeyError};
use super::caa::FoundAbove;
use super::external_account::{ExternalKey, ExternalKeyError};
use super::wire::{Wire, fetch_directory, read_directory};
use crate::install::{FileError, failed, make_private_folder, open_keys_below, write_atomically};
use crate::trust::{self, TrustError};

/// A directory hardly ever changes; one whose URLs are gone is read anew at once.
const DIRECTORY_LASTS: Duration = Duration::from_secs(24 * 3600);
/// Nonces run out of favour at the CA after a while.
const MOST_NONCES: usize = 32;
/// Orders refused until a time, for another reason than their rate, before the others are not even tried.
const MOST_PUT_OFF: u32 = 3;
/// Orders in a row that the CA did not answer to, each after several tries, before the others are not even tried.
const MOST_SILENT: u32 = 2;

#[derive(Debug, thiserror::Error)]
pub enum SessionError {
    #[error("the settings name no CA")]
    NoCa,
    #[error("the settings name no CA `{0}` any more")]
    Unknown(String),
    #[error("a change of the account's key was cut off, so that the CA may know one or the other")]
    KeyChange,
    #[error(transparent)]
    Trust(#[from] TrustError),
    #[error(transparent)]
    Account(#[from] AccountKeyError),
    #[error(transparent)]
    External(#[from] ExternalKeyError),
    #[error(transparent)]
    File(#[from] FileError),
}

/// A CA with our account at it.
pub struct Session {
    pub(super) ca: Ca,
    pub(super) directory_url: String,
    pub(super) key: AccountKey,
    pub(super) folder: CaFolder,
    external: Option<ExternalKey>,
    tls: Arc<ClientConfig>,
    shared: Mutex<Shared>,
    pub(super) found_above: FoundAbove,
    orders: Semaphore,
}

#[derive(Default)]
struct Shared {
    directory: Option<Directory>,
    nonces: Vec<String>,
    wires: Vec<Wire>,
    /// There were too many requests: nothing more is asked for in this command, nor before the time that was named.
    rate: Option<Refusal>,
    put_off: Option<(Refusal, u32)>,
    /// The last order that the CA did not answer to, and how many there were in a row.
    silent: Option<(Refusal, u32)>,
}

impl Session {
    /// Reads the account's key, or makes one where there is none. Sends nothing yet.
    pub fn open(ca: &Ca, layout: &Layout) -> Result<Self, SessionError> {
        let session = Self::open_midway(ca, layout)?;
        match session.folder.next_account_key().exists() {
            true => Err(SessionError::KeyChange),
            false => Ok(session),
        }
    }

    /// The same although a change of the key was cut off: for going on with it.
    pub fn open_midway(ca: &Ca, layout: &Layout) -> Result<Self, SessionError> {
        let directory_url = ca.directory.clone().ok_or(SessionError::NoCa)?;
        let folder = CaFolder::new(layout, &directory_url)?;
        let key = AccountKey::load_or_make(&folder.account_key())?;
        let external = ca.external_account.as_ref().map(ExternalKey::read).transpose()?;
        let tls = trust::client(trust::roots(ca.trust_root.as_slice())?);
        let shared =
            Mutex::new(Shared { directory: folder.directory(), rate: folder.rate_limit(), ..Shared::default() });
        let orders = Semaphore::new(ca.orders_at_once());
        let found_above = FoundAbove::default();
        Ok(Self { ca: ca.clone(), directory_url, key, folder, external, tls, shared, found_above, orders })
    }

    fn shared(&self) -> std::sync::MutexGuard<'_, Shared> {
        self.shared.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Waits until one more order may be on its way.
    pub(super) async fn turn(&self) -> Option<SemaphorePermit<'_>> {
        self.orders.acquire().await.ok()
    }

    pub(super) fn directory(&self) -> Option<Directory> {
        self.shared().directory.clone()
    }

    /// The directory, read if it is not known.
    pub(super) async fn read_directory(&self) -> Result<Directory, String> {
        if let Some(directory) = self.directory() {
            return Ok(directory);
        }
        let mut wire = self.wire();
        let answer = wire.get(&self.directory_url).await?;
        self.give_back(wire, vec![]);
        let directory = read_directory(&answer)?;
        self.keep_directory(Some(&directory)).map_err(|error| error.to_string())?;
        Ok(directory)
    }

    /// Keeps what was read, here and for later commands. Gives whether it is new.
    pub(super) fn keep_directory(&self, directory: Option<&Directory>) -> Result<bool, FileError> {
        let mut shared = self.shared();
        if directory.is_none() || shared.directory.as_ref() == directory {
            return Ok(false);
        }
        shared.directory = directory.cloned();
        let text = serde_json::to_vec(&shared.directory).expect("a directory becomes JSON");
        write_atomically(&self.folder.path("directory.json"), &text, 0o600).map(|()| true)
    }

    pub(super) fn nonce(&self) -> Option<String> {
        self.shared().nonces.pop()
    }

    pub(super) fn give_back(&self, wire: Wire, nonces: Vec<String>) {
        let mut shared = self.shared();
        shared.nonces.extend(nonces);
        let surplus = shared.nonces.len().saturating_sub(MOST_NONCES);
        shared.nonces.drain(..surplus);
        shared.wires.push(wire);
    }

    pub(super) fn wire(&self) -> Wire {
        let kept = self.shared().wires.pop();
        kept.unwrap_or_else(|| Wire::new(Arc::clone(&self.tls)))
    }

    pub(super) fn external(&self) -> Option<&ExternalKey> {
        self.external.as_ref()
    }

    /// Takes down what came of an order.
    pub(super) fn note(&self, refusal: Option<&Refusal>) {
        // What cannot be kept is only noted later.
        let _ = self.folder.note_silence(matches!(refusal, Some(Refusal::Silent { .. })));
        let mut shared = self.shared();
        match refusal {
            None => (shared.put_off, shared.silent) = (None, None),
            Some(refusal) if refusal.is_rate_limit() => {
                shared.rate = Some(refusal.clone());
                // Another command that does not know of it is refused by the CA, which says it again.
                let _ = self.folder.keep_rate_limit(refusal);
            }
            Some(refusal @ Refusal::Silent { not_before: None, .. }) => count(&mut shared.silent, refusal),
            Some(refusal) if refusal.not_before().is_some() => {
                shared.silent = None;
                count(&mut shared.put_off, refusal);
            }
            Some(_) => shared.silent = None,
        }
    }

    /// Since when the CA has answered no order to its end, whichever command asked.
    pub fn silent_since(&self) -> Option<Timestamp> {
        self.folder.silent_since()
    }

    /// The refusal that the next order would get as well: of a CA that is asked too often, or does not answer. Without
    /// this, a CA that hangs would hold up hundreds of orders for hours, one after the other.
    pub(super) fn hopeless(&self, now: Timestamp) -> Option<Refusal> {
        let shared = self.shared();
        let often = |kept: &Option<(Refusal, u32)>, most| kept.clone().filter(|(_, count)| *count >= most);
        let ahead = |refusal: &Refusal| refusal.not_before().is_some_and(|until| until > now);
        let rate = shared.rate.clone().filter(|refusal| refusal.not_before().is_none() || ahead(refusal));
        let put_off = often(&shared.put_off, MOST_PUT_OFF).map(|(refusal, _)| refusal).filter(ahead);
        rate.or(put_off).or_else(|| often(&shared.silent, MOST_SILENT).map(|(refusal, _)| refusal))
    }
}

/// The same once more, the last one as it was put.
fn count(kept: &mut Option<(Refusal, u32)>, refusal: &Refusal) {
    let before = kept.take().map_or(0, |(_, count)| count);
    *kept = Some((refusal.clone(), before + 1));
}

/// The account at a CA as far as it is known here. Reads alone, and makes nothing.
pub fn known_account(ca: &Ca, layout: &Layout) -> Result<Option<String>, SessionError> {
    let directory_url = ca.directory.as_deref().ok_or(SessionError::NoCa)?;
    let folder = CaFolder::at(layout, directory_url);
    if let Some(external) = &ca.external_account {
        ExternalKey::read(external)?;
    }
    match folder.next_account_key().exists() {
        true => Err(SessionError::KeyChange),
        false => Ok(folder.account_url()),
    }
}

/// The profiles that a CA offers, as far as its directory was read lately.
pub fn known_profiles(ca: &Ca, layout: &Layout) -> BTreeMap<String, String> {
    let directory = ca.directory.as_deref().and_then(|url| CaFolder::at(layout, url).directory());
    directory.map(|directory| directory.meta.profiles).unwrap_or_default()
}

/// The profiles that a CA offers, for one that is wished for: it is asked where what is known lacks that one. The error says
/// why it cannot be asked.
pub async fn offered_profiles(ca: &Ca, layout: &Layout, wished: &str) -> Result<BTreeMap<String, String>, String> {
    let known = known_profiles(ca, layout);
    let Some(url) = ca.directory.as_deref().filter(|_| !known.contains_key(wished)) else { return Ok(known) };
    match CaFolder::at(layout, url).rate_limit() {
        Some(refusal) => Err(refusal.to_string()),
        None => Ok(fetch_directory(ca, url).await?.meta.profiles),
    }
}

/// Keys of the account at a CA that others can read.
pub fn open_account_keys(ca: &Ca, layout: &Layout) -> Vec<PathBuf> {
    let folder = ca.directory.as_deref().map(|url| CaFolder::at(layout, url));
    folder.map(|CaFolder(path)| open_keys_below(&path)).unwrap_or_default()
}

/// What is kept of one CA: `ca/HASH/`, all 0600 in 0700.
pub(super) struct CaFolder(PathBuf);

impl CaFolder {
    pub fn new(layout: &Layout, directory_url: &str) -> Result<Self, FileError> {
        let folder = Self::at(layout, directory_url);
        make_private_folder(&folder.orders())?;
        Ok(folder)
    }

    pub fn at(layout: &Layout, directory_url: &str) -> Self {
        Self(layout.ca().join(&content_hash(directory_url.as_bytes())[..16]))
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.0.join(name)
    }

    pub fn orders(&self) -> PathBuf {
        self.path("orders")
    }

    pub fn account_key(&self) -> PathBuf {
        self.path("account.pem")
    }

    /// The key that is to take the place of the account's, while the CA is told.
    pub fn next_account_key(&self) -> PathBuf {
        self.path("account.next.pem")
    }

    /// The account is no more: the next order opens another one, with another key.
    pub fn close_account(&self) -> std::io::Result<()> {
        let stamp = crate::clock::now().strftime("%Y%m%d-%H%M%S").to_string();
        fs::rename(self.account_key(), self.path(&format!("account.closed-{stamp}.pem")))?;
        fs::remove_file(self.path("account.url"))
    }

    pub fn account_url(&self) -> Option<String> {
        let text = fs::read_to_string(self.path("account.url")).ok()?;
        Some(text.trim().to_string()).filter(|url| !url.is_empty())
    }

    pub fn keep_account(&self, url: Option<&str>) -> Result<(), FileError> {
        match url {
            Some(url) if self.account_url().as_deref() != Some(url) => {
                write_atomically(&self.path("account.url"), url.as_bytes(), 0o600)
            }
            _ => Ok(()),
        }
    }

    /// That the CA has had too many requests, as long as the time that it named has not come.
    fn rate_limit(&self) -> Option<Refusal> {
        let refusal: Refusal = serde_json::from_slice(&fs::read(self.path("rate-limit.json")).ok()?).ok()?;
        refusal.not_before().is_some_and(|until| until > crate::clock::now()).then_some(refusal)
    }

    fn keep_rate_limit(&self, refusal: &Refusal) -> Result<(), FileError> {
        if refusal.not_before().is_none() {
            return Ok(());
        }
        let text = serde_json::to_vec(refusal).expect("a refusal becomes JSON");
        write_atomically(&self.path("rate-limit.json"), &text, 0o600)
    }

    fn silent_since(&self) -> Option<Timestamp> {
        fs::read_to_string(self.path("silent-since")).ok()?.trim().parse().ok()
    }

    /// Keeps since when the CA is silent, or that it is not.
    fn note_silence(&self, is_silent: bool) -> Result<(), FileError> {
        let path = self.path("silent-since");
        match (is_silent, self.silent_since()) {
            (true, None) => write_atomically(&path, crate::clock::now().to_string().as_bytes(), 0o600),
            (false, Some(_)) => fs::remove_file(&path).map_err(failed("remove", &path)),
            _ => Ok(()),
        }
    }

    /// As it was read lately.
    pub fn directory(&self) -> Option<Directory> {
        let path = self.path("directory.json");
        let age = SystemTime::now().duration_since(modified(&path)?).ok()?;
        if age > DIRECTORY_LASTS {
            return None;
        }
        serde_json::from_slice(&fs::read(&path).ok()?).ok()
    }
}

fn modified(path: &Path) -> Option<SystemTime> {
    fs::metadata(path).ok()?.modified().ok()
}

//! Change sets: what a command wants to do, as values. What is shown is what is carried out.
//!
//! `decide` functions (such as `site::attach`) make them; carrying out, with its rollback, is in `brightharbor-io`.

mod consent;
#[cfg(test)]
mod line;
mod needs;
mod outside;
mod phases;
mod plan;
mod recorded;
mod remark;
mod undo;

use std::collections::HashMap;
use std::ffi::OsString;
use std::net::SocketAddr;
use std::path::PathBuf;

use aws_lc_rs::digest::{SHA256, digest};
use serde::{Deserialize, Serialize};
use zeroize::Zeroizing;

use crate::account::{Account, AccountName, AccountPlan};
use crate::certificate::{Certificate, NamePause, Revocation, Waiting};
use crate::harbor::NameserverSet;
use crate::name::{Host, Hostname};
use crate::site::Site;
use crate::zone::Zone;
use crate::zone::{Pattern, Update};
pub use consent::Consent;
pub use needs::Needs;
pub use outside::{CaErrand, ServicePlacing, ToldToCa};
pub use phases::Phase;
pub use plan::Plan;
pub use recorded::{Recorded, RecordedChange};
pub use remark::Remark;
pub use undo::{
    Before, FileLeft, ForGood, Later, ObjectNow, UndoLoaded, UndoRefusal, ZoneLeft, names_coming_back, object_of, undo,
};

/// All changes of one command, in the order they are carried out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ChangeSet {
    /// The command in words, for the logbook: `attach gullrock.example`.
    pub title: String,
    pub changes: Vec<Change>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Change {
    WriteFile(FileWrite),
    RemoveFile(FileRemoval),
    LinkFile(FileLink),
    UpdateZone(ZoneUpdate),
    MakeUser(UserMake),
    MakeFolder(FolderMake),
    PlaceForService(ServicePlacing),
    TellCa(CaErrand),
    Inventory { to: InventoryChange },
}

/// Puts a whole file in place. Its precondition is that the file is still as it was read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FileWrite {
    pub path: PathBuf,
    /// The content as it was read; `None`: there was no file.
    pub before: Option<Vec<u8>>,
    /// It may be a key.
    pub content: Zeroizing<Vec<u8>>,
    pub mode: u32,
    pub purpose: Purpose,
}

/// Takes a file away. Its precondition is that the file is still as it was read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FileRemoval {
    pub path: PathBuf,
    /// The content as it was read.
    pub before: Vec<u8>,
    pub mode: u32,
    pub purpose: Purpose,
}

impl FileRemoval {
    pub fn new(path: PathBuf, before: Vec<u8>, mode: u32, purpose: Purpose) -> Self {
        Self { path, before, mode, purpose }
    }
}

/// Puts a link in the harbor to a zone file that stays where the server reads it. Nothing may be there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct FileLink {
    pub path: PathBuf,
    pub to: PathBuf,
    pub zone: Hostname,
    /// Of what is there.
    pub hash: String,
    /// Whether the server reads its definition from another place by now.
    pub moves: bool,
}

/// Changes a zone on the primary server that holds it (RFC 2136). Its requirements are its precondition.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ZoneUpdate {
    pub zone: Hostname,
    pub server: SocketAddr,
    /// Where the transaction key lies; never the key.
    pub key_file: PathBuf,
    /// The serial that the zone was read with.
    pub serial: u32,
    pub update: Update,
}

/// What a file is for: this decides which server has to hear of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Purpose {
    SiteFile,
    ZoneFile {
        zone: Hostname,
    },
    ZoneList,
    /// The pool of an account for a version of PHP.
    PhpPool {
        version: String,
        account: AccountName,
    },
    /// A file of a server's own configuration: it keeps all that it has beside its content. What is changed there besides
    /// says who has to hear of it.
    ServerFile,
    /// A file that no server has to hear of: one outside the harbor, or its settings.
    Loose,
    /// A copy of something that is removed, in a folder of the harbor that nobody else reads.
    Copy,
    /// A certificate request: made for a new key each time, so that a dry run has nothing to show of it.
    Request,
    Chain,
    Key,
    /// The statement of a CA that a certificate is shown with (RFC 6066 section 8): the web server reads it when it loads
    /// its files.
    Staple,
}

/// A system user that owns an account's folders. It must not be there yet; it gets no password and no login shell.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct UserMake {
    pub name: String,
    /// Only noted as the user's home; made as any other folder.
    pub home: PathBuf,
}

/// A folder below `home`, made one component at a time and never through a link.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct FolderMake {
    pub home: PathBuf,
    /// Relative to the home; empty: the home itself.
    pub below: PathBuf,
    pub system_user: Option<String>,
    /// Of what is made; with a group, of the folder itself, and what is above it is for everybody to enter.
    pub mode: u32,
    /// The group of the folder, if not that of the owner.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub group: Option<String>,
    /// Whether the servers' tests need it: an empty folder outside of homes.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub early: bool,
    /// The page to put into a folder that is new or empty.
    pub starter_page: Option<String>,
    /// Folders of starter files: the first that is there is copied into a folder that is new or empty, in place of the
    /// page.
    #[serde(default)]
    pub starter_files: Vec<PathBuf>,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "inventory", rename_all = "kebab-case")]
pub enum InventoryChange {
    AddAccount(Account),
    ReplaceAccount {
        before: Account,
        after: Account,
    },
    RemoveAccount(Account),
    /// Makes a plan, or puts another in its place.
    SetPlan(AccountPlan),
    RemovePlan(AccountPlan),
    /// Makes a nameserver set, or puts another in its place.
    SetNameservers {
        name: String,
        before: Option<NameserverSet>,
        after: NameserverSet,
    },
    RemoveNameservers {
        name: String,
        set: NameserverSet,
    },
    AddSite(Site),
    ReplaceSite {
        before: Site,
        after: Site,
    },
    /// With its hostnames, its certificate's entry, and what waits for it.
    RemoveSite(Site),
    RemoveZone(Zone),
    AddZone(Zone),
    ReplaceZone {
        before: Zone,
        after: Zone,
    },
    /// Remembers a pattern that zones are made by; nothing if it is known.
    KnowPattern(Pattern),
    /// In the place of the one that the site has.
    RecordCertificate(Certificate),
    /// The files of a former certificate have been cleared away.
    ForgetCertificate {
        folder: PathBuf,
    },
    /// A certificate is to be revoked, once its successor is served.
    RememberRevocation(Revocation),
    /// The CA was told, or, where it was not, the certificate has expired meanwhile.
    ForgetRevocation {
        folder: PathBuf,
        told: bool,
    },
    Await(Waiting),
    /// A name is left out of orders for a while.
    Pause(NamePause),
    EndWait {
        site: Host,
    },
}

/// A file as it was read; `None` means that there is none.
pub type ExistingFile = Option<Vec<u8>>;

impl FileWrite {
    pub fn new(
        path: PathBuf,
        before: Option<Vec<u8>>,
        content: impl Into<Vec<u8>>,
        mode: u32,
        purpose: Purpose,
    ) -> Self {
        Self { path, before, content: Zeroizing::new(content.into()), mode, purpose }
    }
}

impl ChangeSet {
    pub fn new(title: impl Into<String>) -> Self {
        Self { title: title.into(), changes: Vec::new() }
    }

    pub fn is_empty(&self) -> bool {
        self.changes.is_empty()
    }

    pub fn inventory(&mut self, to: InventoryChange) {
        self.changes.push(Change::Inventory { to });
    }

    /// A file to be written. One that the set writes already is written once, with the later content.
    pub fn file(&mut self, write: FileWrite) {
        let earlier = self.changes.iter_mut().find_map(|change| match change {
            // As bytes: paths that are compared part by part make a large set slow.
            Change::WriteFile(earlier) if earlier.path.as_os_str() == write.path.as_os_str() => Some(earlier),
            _ => None,
        });
        match earlier {
            Some(earlier) => earlier.content = write.content,
            None => self.changes.push(Change::WriteFile(write)),
        }
    }

    /// Takes over the changes of other decisions that were made on top of this set, however many they are: as [`Self::file`]
    /// has it, each file is written once.
    pub fn extend(&mut self, changes: impl IntoIterator<Item = Change>) {
        let written = self.changes.iter().enumerate().filter_map(|(at, change)| match change {
            Change::WriteFile(write) => Some((write.path.clone().into_os_string(), at)),
            _ => None,
        });
        // The first of a path counts, and there is one.
        let mut places: HashMap<OsString, usize> = HashMap::new();
        for (path, at) in written {
            places.entry(path).or_insert(at);
        }
        for change in changes {
            if let Change::WriteFile(write) = &change
                && let Some(Change::WriteFile(earlier)) =
                    places.get(write.path.as_os_str()).and_then(|at| self.changes.get_mut(*at))
            {
                earlier.content = write.content.clone();
                continue;
            }
            if let Change::WriteFile(write) = &change {
                places.insert(write.path.clone().into_os_string(), self.changes.len());
            }
            self.changes.push(change);
        }
    }

    /// What a file that is written had in it when it was read.
    pub fn before(&self, path: &std::path::Path) -> Option<&[u8]> {
        self.changes.iter().find_map(|change| match change {
            Change::WriteFile(write) if write.path == path => write.before.as_deref(),
            _ => None,
        })
    }

    /// What a file will hold after this set, if the set writes it.
    pub fn pending(&self, path: &std::path::Path) -> Option<&[u8]> {
        self.changes.iter().find_map(|change| match change {
            Change::WriteFile(write) if write.path.as_os_str() == path.as_os_str() => Some(&write.content[..]),
            _ => None,
        })
    }

    /// The inventory changes so far.
    pub fn inventory_changes(&self) -> impl Iterator<Item = &InventoryChange> {
        self.changes.iter().filter_map(|change| match change {
            Change::Inventory { to } => Some(to),
            _ => None,
        })
    }
}

/// The hash that contents are remembered by: SHA-256, in hex.
pub fn content_hash(content: &[u8]) -> String {
    digest(&SHA256, content).as_ref().iter().map(|byte| format!("{byte:02x}")).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_files_that_a_server_reads_need_a_reload() {
        let mut set = ChangeSet::new("test");
        let zone = crate::name::Hostname::parse("gullrock.example").unwrap();
        set.file(FileWrite::new("/k".into(), None, "", 0o600, Purpose::Key));
        assert_eq!(set.needs(), Needs::default());
        let purpose = || Purpose::ZoneFile { zone: zone.clone() };
        set.file(FileWrite::new("/z".into(), None, "", 0o644, purpose()));
        set.file(FileWrite::new("/y".into(), Some(vec![]), "", 0o644, purpose()));
        set.file(FileWrite::new("/s".into(), None, "", 0o644, Purpose::SiteFile));
        let (zones, new_zones) = (vec![zone.clone()], vec![zone.clone()]);
        let removal = FileRemoval::new("/x".into(), vec![], 0o644, purpose());
        set.changes.push(Change::RemoveFile(removal));
        let gone_zones = vec![zone.clone()];
        assert_eq!(
            set.needs(),
            Needs { web_reload: true, zone_list: false, zones, new_zones, gone_zones, ..Needs::default() }
        );
    }
}

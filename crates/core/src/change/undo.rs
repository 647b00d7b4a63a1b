//! The decision to take back what a command did, long after it ended: as a change of its own, if all of it is still as that
//! command left it.
//!
//! Carrying out takes back what fails by itself (`brightharbor-io`, `carry_out::recover`); this is for a person who wants the
//! former state again. Files go back byte by byte, zones under a higher serial. What goes along with every change of sites
//! (pools of PHP, what visitors get who ask for a host that nobody has) is decided anew.

use std::collections::HashMap;
use std::path::PathBuf;

use jiff::civil::Date;

use super::{
    Change, ChangeSet, ExistingFile, FileRemoval, FileWrite, InventoryChange, Plan, Purpose, RecordedChange, Remark,
    content_hash,
};
use crate::account::{Account, AccountPlan};
use crate::certificate::Certificate;
use crate::harbor::{Layout, NameserverSet, Settings};
use crate::name::{Host, Hostname};
use crate::site::{AnsweredBefore, ByHand, Content, Site, ask_for_answered, ask_for_htaccess};
use crate::zone::{Document, Zone};

/// What the decision rests on.
#[derive(Debug, Clone)]
pub struct UndoLoaded {
    pub entry: i64,
    pub title: String,
    pub has_ended_well: bool,
    pub changes: Vec<RecordedChange>,
    /// What was done to files, in the order of the entry.
    pub files: Vec<FileLeft>,
    /// How the objects of its inventory changes are now, in the order of these changes.
    pub now: Vec<ObjectNow>,
    /// Where something else serves one of the names that would come back.
    pub by_hand: Option<ByHand>,
    pub answered: Option<AnsweredBefore>,
    /// Later entries that had to do with the same, the newest first.
    pub later: Vec<Later>,
}

/// A later entry, and what of it may be the same.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Later {
    pub entry: i64,
    pub title: String,
    pub files: Vec<PathBuf>,
    pub objects: Vec<String>,
    pub is_for_good: bool,
}

impl Later {
    pub fn new(entry: i64, title: String, changes: &[RecordedChange]) -> Self {
        let path = |change: &RecordedChange| match change {
            RecordedChange::WriteFile { path, .. } | RecordedChange::RemoveFile { path, .. } => Some(path.clone()),
            _ => None,
        };
        let object = |change: &RecordedChange| match change {
            RecordedChange::Inventory { to } => Some(object_of(to)),
            _ => None,
        };
        Self {
            entry,
            title,
            files: changes.iter().filter_map(path).collect(),
            objects: changes.iter().filter_map(object).collect(),
            is_for_good: changes.iter().any(|change| for_good(change).is_some()),
        }
    }
}

/// A file that an entry has written or removed.
#[derive(Debug, Clone)]
pub struct FileLeft {
    pub path: PathBuf,
    pub purpose: Purpose,
    pub mode: u32,
    /// The hash of what it wrote; `None`: it removed the file.
    pub wrote: Option<String>,
    pub before: Before,
    pub now: ExistingFile,
    /// Of a zone's file.
    pub zone: Option<Box<ZoneLeft>>,
}

/// What was there before.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Before {
    Nothing,
    Content(Vec<u8>),
    /// Its copy is not kept any more.
    Lost,
}

/// The file of a zone as it was and as it is, and the serials that servers have.
#[derive(Debug, Clone)]
pub struct ZoneLeft {
    pub before: Document,
    pub now: Option<Document>,
    pub served: Vec<u32>,
}

/// What an inventory change was about, as it is now.
#[derive(Debug, Clone, PartialEq)]
pub enum ObjectNow {
    Account(Option<Account>),
    /// The plan of that name, and how it was before the entry.
    Plan {
        now: Option<AccountPlan>,
        former: Option<AccountPlan>,
    },
    Nameservers(Option<NameserverSet>),
    /// The sites that have any of its names; the certificate that a removed site had.
    Site {
        now: Vec<Site>,
        certificate: Option<Certificate>,
    },
    Zone(Option<Zone>),
    /// Nothing that could be in the way.
    Other,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum UndoRefusal {
    NoEntry(Option<i64>),
    /// It was rolled back, or failed.
    NotDone {
        entry: i64,
        title: String,
    },
    /// Something is not as the entry left it; the entry that changed it, if the logbook knows.
    ChangedSince {
        entry: i64,
        what: String,
        by: Option<Later>,
    },
    /// It cannot be taken back by anybody, or by another command.
    ForGood {
        entry: i64,
        what: ForGood,
    },
    /// The web server's own files serve a name that would come back.
    ByHand {
        entry: i64,
        found: ByHand,
    },
    /// The copies of what it replaced are kept for some entries only.
    NoCopies {
        entry: i64,
        path: PathBuf,
    },
}

/// What nothing takes back.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ForGood {
    ToldToCa,
    Certificate,
    Service(String),
    TakenOver(Hostname),
    /// A primary elsewhere has it: its records are changed by commands.
    Remote(Hostname),
}

/// The names that taking these changes back would have served again.
pub fn names_coming_back(changes: &[RecordedChange]) -> Vec<Host> {
    let names = changes.iter().flat_map(|change| match change {
        RecordedChange::Inventory { to } => match &**to {
            InventoryChange::RemoveSite(site) => site.hostnames.clone(),
            InventoryChange::ReplaceSite { before, after } => {
                before.hostnames.iter().filter(|name| !after.hostnames.contains(name)).cloned().collect()
            }
            _ => vec![],
        },
        _ => vec![],
    });
    names.collect()
}

/// Decides what takes the entry back.
pub fn undo(loaded: &UndoLoaded, settings: &Settings, layout: &Layout, today: Date) -> Result<Plan, UndoRefusal> {
    let entry = loaded.entry;
    if !loaded.has_ended_well {
        return Err(UndoRefusal::NotDone { entry, title: loaded.title.clone() });
    }
    if let Some(what) = loaded.changes.iter().find_map(for_good) {
        return Err(UndoRefusal::ForGood { entry, what });
    }
    if let Some(found) = &loaded.by_hand {
        return Err(UndoRefusal::ByHand { entry, found: found.clone() });
    }
    let mut plan = Plan::new(format!("undo {entry} ({})", loaded.title));
    ask_for_answered(loaded.answered.as_ref(), &mut plan);
    // Decided anew with every change of sites.
    let server = settings.web.server;
    let aside = [layout.unknown_hosts(server), layout.unknown_hosts_pair(server)];
    for file in loaded.files.iter().filter(|file| !aside.contains(&file.path)) {
        put_back(&mut plan.set, file, loaded, today)?;
    }
    let inventory = loaded.changes.iter().filter_map(|change| match change {
        RecordedChange::Inventory { to } => Some(&**to),
        _ => None,
    });
    // What an earlier change of the same entry is compared with, once the later ones are taken back.
    let mut taken_back: HashMap<String, ObjectNow> = HashMap::new();
    // The last first: a zone goes before the account that it was given to.
    for (change, now) in inventory.zip(&loaded.now).collect::<Vec<_>>().into_iter().rev() {
        let object = object_of(change);
        let inverse = inverse_of(change, taken_back.get(&object).unwrap_or(now))
            .ok_or_else(|| changed_since(loaded, &object, |later| later.objects.contains(&object)))?;
        if let Some(state) = inverse.first().and_then(left_by) {
            taken_back.insert(object, state);
        }
        for change in inverse {
            // What needed a consent needs it again.
            match &change {
                InventoryChange::AddSite(site) => ask_for_htaccess(&Content::default(), site, &mut plan),
                InventoryChange::ReplaceSite { before, after } => {
                    ask_for_htaccess(&before.rules.content, after, &mut plan);
                }
                _ => {}
            }
            plan.set.inventory(change);
        }
    }
    match plan.set.is_empty() {
        true => plan.remark(Remark::Unchanged),
        false => plan.remark(Remark::TakenBack { entry, title: loaded.title.clone(), stays: stays(&loaded.changes) }),
    }
    Ok(plan)
}

/// Folders and system users that stay, as ever: somebody may have put something there.
fn stays(changes: &[RecordedChange]) -> Vec<String> {
    let stays = changes.iter().filter_map(|change| match change {
        RecordedChange::MakeFolder(make) => Some(make.home.join(&make.below).display().to_string()),
        RecordedChange::MakeUser(make) => Some(format!("system user {}", make.name)),
        _ => None,
    });
    stays.collect()
}

/// How an object is once a change of it is carried out.
fn left_by(change: &InventoryChange) -> Option<ObjectNow> {
    use InventoryChange as To;
    let site = |now| ObjectNow::Site { now, certificate: None };
    Some(match change {
        To::AddSite(after) | To::ReplaceSite { after, .. } => site(vec![after.clone()]),
        To::RemoveSite(_) => site(vec![]),
        To::AddZone(after) | To::ReplaceZone { after, .. } => ObjectNow::Zone(Some(after.clone())),
        To::RemoveZone(_) => ObjectNow::Zone(None),
        To::AddAccount(after) | To::ReplaceAccount { after, .. } => ObjectNow::Account(Some(after.clone())),
        To::RemoveAccount(_) => ObjectNow::Account(None),
        _ => return None,
    })
}

/// What of a change has left this machine, or is for another command.
fn for_good(change: &RecordedChange) -> Option<ForGood> {
    use InventoryChange as To;
    match change {
        RecordedChange::TellCa(_) => Some(ForGood::ToldToCa),
        RecordedChange::PlaceForService { name, .. } => Some(ForGood::Service(name.clone())),
        RecordedChange::LinkFile(link) => Some(ForGood::TakenOver(link.zone.clone())),
        RecordedChange::UpdateZone(update) => Some(ForGood::Remote(update.zone.clone())),
        RecordedChange::WriteFile {
            purpose: Purpose::Chain | Purpose::Key | Purpose::Request | Purpose::Staple,
            ..
        } => Some(ForGood::Certificate),
        RecordedChange::Inventory { to } => match &**to {
            To::RecordCertificate(_)
            | To::ForgetCertificate { .. }
            | To::RememberRevocation(_)
            | To::ForgetRevocation { .. } => Some(ForGood::Certificate),
            _ => None,
        },
        _ => None,
    }
}

fn changed_since(loaded: &UndoLoaded, what: &str, is_it: impl Fn(&Later) -> bool) -> UndoRefusal {
    let by = loaded.later.iter().find(|later| is_it(later)).cloned();
    UndoRefusal::ChangedSince { entry: loaded.entry, what: what.to_string(), by }
}

fn put_back(set: &mut ChangeSet, file: &FileLeft, loaded: &UndoLoaded, today: Date) -> Result<(), UndoRefusal> {
    // Copies stay; a pool is decided anew.
    if matches!(file.purpose, Purpose::Copy | Purpose::PhpPool { .. }) {
        return Ok(());
    }
    if file.now.as_deref().map(content_hash) != file.wrote {
        let shown = file.path.display().to_string();
        return Err(changed_since(loaded, &shown, |later| later.files.contains(&file.path)));
    }
    let content = match &file.before {
        Before::Content(content) => content,
        Before::Lost => return Err(UndoRefusal::NoCopies { entry: loaded.entry, path: file.path.clone() }),
        Before::Nothing => {
            if let Some(now) = &file.now {
                let removal = FileRemoval::new(file.path.clone(), now.clone(), file.mode, file.purpose.clone());
                set.changes.push(Change::RemoveFile(removal));
            }
            return Ok(());
        }
    };
    // No server takes a serial back.
    let raised = file
        .zone
        .as_ref()
        .and_then(|zone| zone.before.put_back_after(zone.now.as_ref().unwrap_or(&zone.before), &zone.served, today));
    let content = raised.map_or_else(|| content.clone(), |raised| raised.source().to_vec());
    set.file(FileWrite::new(file.path.clone(), file.now.clone(), content, file.mode, file.purpose.clone()));
    Ok(())
}

/// What puts the inventory back; `None` if the object is not as the change left it.
fn inverse_of(change: &InventoryChange, now: &ObjectNow) -> Option<Vec<InventoryChange>> {
    use InventoryChange as To;
    let one = |fits: bool, inverse: To| fits.then(|| vec![inverse]);
    match (change, now) {
        (To::AddAccount(account), ObjectNow::Account(now)) => {
            one(now.as_ref() == Some(account), To::RemoveAccount(account.clone()))
        }
        (To::ReplaceAccount { before, after }, ObjectNow::Account(now)) => {
            let back = To::ReplaceAccount { before: after.clone(), after: before.clone() };
            one(now.as_ref() == Some(after), back)
        }
        (To::RemoveAccount(account), ObjectNow::Account(now)) => one(now.is_none(), To::AddAccount(account.clone())),
        (To::SetPlan(plan), ObjectNow::Plan { now, former }) => {
            let back = former.clone().map_or_else(|| To::RemovePlan(plan.clone()), To::SetPlan);
            one(now.as_ref() == Some(plan), back)
        }
        (To::RemovePlan(plan), ObjectNow::Plan { now, .. }) => one(now.is_none(), To::SetPlan(plan.clone())),
        (To::SetNameservers { name, before, after }, ObjectNow::Nameservers(now)) => {
            let back = match before.clone() {
                Some(before) => To::SetNameservers { name: name.clone(), before: Some(after.clone()), after: before },
                None => To::RemoveNameservers { name: name.clone(), set: after.clone() },
            };
            one(now.as_ref() == Some(after), back)
        }
        (To::RemoveNameservers { name, set }, ObjectNow::Nameservers(now)) => {
            let back = To::SetNameservers { name: name.clone(), before: None, after: set.clone() };
            one(now.is_none(), back)
        }
        (To::AddSite(site), ObjectNow::Site { now, .. }) => {
            one(now[..] == [site.clone()], To::RemoveSite(site.clone()))
        }
        (To::ReplaceSite { before, after }, ObjectNow::Site { now, .. }) => {
            let back = To::ReplaceSite { before: after.clone(), after: before.clone() };
            one(now[..] == [after.clone()], back)
        }
        (To::RemoveSite(site), ObjectNow::Site { now, certificate }) => {
            // A site that named a certificate comes back with it, or not at all.
            let known = site.certificate.is_none() || certificate.is_some();
            (now.is_empty() && known).then(|| {
                let record = certificate.clone().map(To::RecordCertificate);
                std::iter::once(To::AddSite(site.clone())).chain(record).collect()
            })
        }
        (To::AddZone(zone), ObjectNow::Zone(now)) => one(now.as_ref() == Some(zone), To::RemoveZone(zone.clone())),
        (To::ReplaceZone { before, after }, ObjectNow::Zone(now)) => {
            let back = To::ReplaceZone { before: after.clone(), after: before.clone() };
            one(now.as_ref() == Some(after), back)
        }
        (To::RemoveZone(zone), ObjectNow::Zone(now)) => one(now.is_none(), To::AddZone(zone.clone())),
        // What is only remembered harms nobody.
        (To::KnowPattern(_) | To::Await(_) | To::Pause(_) | To::EndWait { .. }, _) => Some(vec![]),
        _ => None,
    }
}

/// What an inventory change is about, as it is named to people and in [`Later`].
pub fn object_of(change: &InventoryChange) -> String {
    use InventoryChange as To;
    match change {
        To::AddAccount(account) | To::RemoveAccount(account) | To::ReplaceAccount { after: account, .. } => {
            format!("account {}", account.name)
        }
        To::SetPlan(plan) | To::RemovePlan(plan) => format!("plan {}", plan.name),
        To::SetNameservers { name, .. } | To::RemoveNameservers { name, .. } => format!("nameserver set {name}"),
        To::AddSite(site) | To::RemoveSite(site) | To::ReplaceSite { after: site, .. } => {
            format!("site {}", site.main())
        }
        To::AddZone(zone) | To::RemoveZone(zone) | To::ReplaceZone { after: zone, .. } => format!("zone {}", zone.name),
        To::RecordCertificate(certificate) => format!("certificate of {}", certificate.site),
        _ => String::new(),
    }
}

#[cfg(test)]
#[path = "undo_tests.rs"]
mod tests;

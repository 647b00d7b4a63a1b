//! What the decision to take an entry of the logbook back rests on: the entry, how its files and objects are now, and who has
//! touched them since.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use brightharbor_core::change::{
    Before, FileLeft, InventoryChange, Later, ObjectNow, Purpose, RecordedChange, UndoLoaded, ZoneLeft,
    names_coming_back,
};
use brightharbor_core::name::{Host, Hostname};
use brightharbor_core::site::Site;
use brightharbor_core::zone::Document;

use super::LoadError;
use super::answered::answered;
use super::attach::by_hand;
use crate::carry_out::copy_of;
use crate::install::read_if_there;
use crate::master_file::{Includes, parse_file};
use crate::overlay::Overlay;
use crate::store::{Entry, EntryOutcome, Inverse};

/// Enough to say who was it.
const LATER_ENTRIES: u32 = 1_000;

/// Loads for an entry, as `Store::entry` gives it.
pub async fn undo(overlay: &Overlay<'_>, entry: &Entry, inverses: &[Inverse]) -> Result<UndoLoaded, LoadError> {
    let by_path: HashMap<&Path, &Inverse> =
        inverses.iter().filter_map(|inverse| Some((path_of(inverse)?.as_path(), inverse))).collect();
    let mut files = Vec::new();
    for change in &entry.changes.changes {
        let (path, mode, purpose) = match change {
            RecordedChange::WriteFile { path, mode, purpose, .. }
            | RecordedChange::RemoveFile { path, mode, purpose, .. } => (path, *mode, purpose),
            _ => continue,
        };
        if let Some(inverse) = by_path.get(path.as_path()) {
            files.push(file_left(overlay, entry, path, purpose, mode, inverse).await?);
        }
    }
    let mut now = Vec::new();
    for change in &entry.changes.changes {
        if let RecordedChange::Inventory { to } = change {
            now.push(object_now(overlay, entry.id, to)?);
        }
    }
    let later = overlay.store.done_after(entry.id, LATER_ENTRIES)?.into_iter();
    let later = later.map(|entry| Later::new(entry.id, entry.title, &entry.changes.changes)).collect();
    let names = names_coming_back(&entry.changes.changes);
    let by_hand = if names.is_empty() { None } else { by_hand(overlay, &names).await? };
    let answered = if by_hand.is_some() { None } else { answered(overlay, &names).await? };
    Ok(UndoLoaded {
        entry: entry.id,
        title: entry.title.clone(),
        has_ended_well: entry.outcome == EntryOutcome::Done,
        changes: entry.changes.changes.clone(),
        files,
        now,
        by_hand,
        answered,
        later,
    })
}

fn path_of(inverse: &Inverse) -> Option<&PathBuf> {
    match inverse {
        Inverse::Remove { path, .. } | Inverse::Restore { path, .. } | Inverse::PutBack { path, .. } => Some(path),
        _ => None,
    }
}

async fn file_left(
    overlay: &Overlay<'_>,
    entry: &Entry,
    path: &Path,
    purpose: &Purpose,
    mode: u32,
    inverse: &Inverse,
) -> Result<FileLeft, LoadError> {
    let (wrote, kept) = match inverse {
        Inverse::Restore { wrote_hash, kept, .. } => (Some(wrote_hash.clone()), Some(kept)),
        Inverse::PutBack { kept, .. } => (None, Some(kept)),
        Inverse::Remove { wrote_hash, .. } => (Some(wrote_hash.clone()), None),
        _ => (None, None),
    };
    let before = match kept {
        None => Before::Nothing,
        Some(kept) => read_if_there(&copy_of(&overlay.layout, entry.id, kept))?.map_or(Before::Lost, Before::Content),
    };
    let now = overlay.file(path)?;
    let zone = match (purpose, &before) {
        (Purpose::ZoneFile { zone }, Before::Content(content)) => {
            zone_left(overlay, zone, content, now.as_deref()).await?.map(Box::new)
        }
        _ => None,
    };
    Ok(FileLeft { path: path.to_path_buf(), purpose: purpose.clone(), mode, wrote, before, now, zone })
}

/// A file that cannot be read as a zone goes back as it was.
async fn zone_left(
    overlay: &Overlay<'_>,
    zone: &Hostname,
    before: &[u8],
    now: Option<&[u8]>,
) -> Result<Option<ZoneLeft>, LoadError> {
    let read = |content: &[u8]| -> Option<Document> {
        let includes = Includes::OfServer(overlay.settings.dns.directory.as_deref());
        parse_file(content.to_vec(), &zone.dns_name(), includes).ok()
    };
    let Some(before) = read(before) else { return Ok(None) };
    let served = overlay.served_serials(zone).await?.into_iter().map(|(_, serial)| serial).collect();
    Ok(Some(ZoneLeft { before, now: now.and_then(read), served }))
}

fn object_now(overlay: &Overlay<'_>, entry: i64, change: &InventoryChange) -> Result<ObjectNow, LoadError> {
    use InventoryChange as To;
    Ok(match change {
        To::AddAccount(account) | To::RemoveAccount(account) | To::ReplaceAccount { after: account, .. } => {
            ObjectNow::Account(overlay.account(&account.name)?)
        }
        To::SetPlan(plan) | To::RemovePlan(plan) => {
            let is_it = |change: &RecordedChange| match change {
                RecordedChange::Inventory { to } => match &**to {
                    To::SetPlan(former) if former.name == plan.name => Some(Some(former.clone())),
                    To::RemovePlan(former) if former.name == plan.name => Some(None),
                    _ => None,
                },
                _ => None,
            };
            let named = format!("\"{}\"", plan.name);
            let former = overlay.store.last_change_before(entry, ["-plan\"", &named], is_it)?;
            ObjectNow::Plan { now: overlay.store.plan(&plan.name)?, former: former.flatten() }
        }
        To::SetNameservers { name, .. } | To::RemoveNameservers { name, .. } => {
            ObjectNow::Nameservers(overlay.store.nameserver_sets()?.remove(name))
        }
        To::AddSite(site) | To::ReplaceSite { after: site, .. } => {
            ObjectNow::Site { now: sites_with(overlay, &site.hostnames)?, certificate: None }
        }
        To::RemoveSite(site) => {
            let certificate = match &site.certificate {
                None => None,
                Some(files) => {
                    let folder = files.folder().display().to_string();
                    let is_it = |change: &RecordedChange| match change {
                        RecordedChange::Inventory { to } => match &**to {
                            To::RecordCertificate(certificate) if certificate.files == *files => {
                                Some(certificate.clone())
                            }
                            _ => None,
                        },
                        _ => None,
                    };
                    overlay.store.last_change_before(entry, ["record-certificate", &folder], is_it)?
                }
            };
            ObjectNow::Site { now: sites_with(overlay, &site.hostnames)?, certificate }
        }
        To::AddZone(zone) | To::RemoveZone(zone) | To::ReplaceZone { after: zone, .. } => {
            ObjectNow::Zone(overlay.zone(&zone.name)?)
        }
        _ => ObjectNow::Other,
    })
}

fn sites_with(overlay: &Overlay<'_>, names: &[Host]) -> Result<Vec<Site>, LoadError> {
    let mut found: Vec<Site> = Vec::new();
    for name in names {
        let site = overlay.site_of(name)?.filter(|site| !found.iter().any(|known| known.main() == site.main()));
        found.extend(site);
    }
    Ok(found)
}

//! The steps of carrying out: preconditions, the logbook's "begun", files, tests, folders, reloads, and the inventory
//! in one transaction at the end. Whatever fails takes the files back in reverse order.

use std::path::{Path, PathBuf};

use brightharbor_core::account::check_system_user;
use brightharbor_core::change::{
    CaErrand, Change, ChangeSet, FileLink, FileRemoval, FileWrite, FolderMake, InventoryChange, Phase, Purpose,
    Recorded, ServicePlacing, UserMake, ZoneUpdate, content_hash,
};
use brightharbor_core::name::Hostname;
use jiff::Timestamp;

use super::put_back::Raised;
use super::recover::{clear_up, inverse_of, note_put_back, send, take_back, tell_services, undo_files, undo_updates};
use super::replaced;
use super::stop::AtWork;
use super::{CarryError, Cause, Event, Lock};
use crate::acme::run_errand;
use crate::harbor::Harbor;
use crate::install::{
    CertificateFault, Wanted, check_certificate_files, leads_to, link, link_target, make_folder, make_open,
    make_private_folder, make_user, place_for_service, read_if_there, remove_file, user_exists, write_all_atomically,
};
use crate::server::{
    await_newer, await_pools, await_serials, await_signing, can_staple, check_zones, forget_signing, load_zones,
    reload_pools, reload_web, test_pools, test_web,
};
use crate::store::{EntryOutcome, Inverse};

/// Carries a change set out. The lock is proof that nobody else is at it. Gives the logbook entry's number.
pub async fn carry_out(
    harbor: &mut Harbor,
    _lock: &Lock,
    set: &ChangeSet,
    now: Timestamp,
    tell: &dyn Fn(Event),
) -> Result<i64, CarryError> {
    let work = AtWork::begin().map_err(CarryError::Stopped)?;
    check_preconditions(set)?;
    let entry = harbor.store.next_entry()?;
    let inverses = keep_what_is_replaced(harbor, entry, set)?;
    harbor.store.begin(entry, now, &who(), set, &inverses)?;
    let mut told = Told::default();
    let mut updated = Vec::new();
    let result = match apply(harbor, set, now, tell, &work, &mut told, &mut updated).await {
        Ok(()) => harbor.store.commit(entry, set).map_err(Cause::from),
        Err(cause) => Err(cause),
    };
    match result {
        Ok(()) => {
            replaced::keep(&harbor.layout, entry, set, &inverses);
            work.goes_on().map_err(CarryError::Stopped)?;
            Ok(entry)
        }
        Err(cause) => {
            let mut left = undo_updates(&updated).await;
            let raised = Raised::of(&harbor.settings, &harbor.layout, &set.needs(), told.dns);
            let files = undo_files(&inverses, &raised).await;
            let again = !files.is_empty();
            left.extend(files);
            note_put_back(harbor, &Recorded::from(set));
            tell_services(harbor, &inverses).await;
            if told.any {
                left.extend(take_back(harbor, &set.needs()).await);
            }
            // A disk that is full now may not be so later: the entry stays begun, and the next command takes it back.
            if !again {
                let outcome = if left.is_empty() { EntryOutcome::RolledBack } else { EntryOutcome::Failed };
                harbor.store.end(entry, outcome, &cause.to_string())?;
            }
            clear_up(harbor, entry, &inverses, left.is_empty());
            Err(CarryError::RolledBack { cause: Box::new(cause), left, again })
        }
    }
}

fn writes(set: &ChangeSet) -> impl Iterator<Item = &FileWrite> {
    set.changes.iter().filter_map(|change| match change {
        Change::WriteFile(write) => Some(write),
        _ => None,
    })
}

fn updates(set: &ChangeSet) -> impl Iterator<Item = &ZoneUpdate> {
    set.changes.iter().filter_map(|change| match change {
        Change::UpdateZone(update) => Some(update),
        _ => None,
    })
}

/// Every file is as it was read, or is not there as it was not then.
pub fn check_preconditions(set: &ChangeSet) -> Result<(), CarryError> {
    for write in writes(set) {
        let present = read_if_there(&write.path)?;
        match (&write.before, present) {
            (None, None) => {}
            (None, Some(_)) => return Err(CarryError::InTheWay(write.path.clone())),
            (Some(before), Some(content)) if content == *before => {}
            (Some(_), _) => return Err(CarryError::ChangedMeanwhile(write.path.clone())),
        }
    }
    for removal in removals(set) {
        if read_if_there(&removal.path)?.is_none_or(|content| content != removal.before) {
            return Err(CarryError::ChangedMeanwhile(removal.path.clone()));
        }
    }
    if let Some(link) = links(set).find(|link| link.path.symlink_metadata().is_ok()) {
        return Err(CarryError::InTheWay(link.path.clone()));
    }
    for placing in placings(set) {
        // What is there and is none of ours was not there when it was read.
        if leads_to(&placing.service).ok() != Some(placing.former.clone()) {
            return Err(CarryError::ChangedMeanwhile(placing.service.folder.clone()));
        }
    }
    match users(set).find(|make| user_exists(&make.name)) {
        Some(make) => Err(CarryError::UserExists(make.name.clone())),
        None => Ok(()),
    }
}

fn users(set: &ChangeSet) -> impl Iterator<Item = &UserMake> {
    set.changes.iter().filter_map(|change| match change {
        Change::MakeUser(make) => Some(make),
        _ => None,
    })
}

fn folders(set: &ChangeSet) -> impl Iterator<Item = &FolderMake> {
    set.changes.iter().filter_map(|change| match change {
        Change::MakeFolder(make) => Some(make),
        _ => None,
    })
}

fn errands(set: &ChangeSet) -> impl Iterator<Item = &CaErrand> {
    set.changes.iter().filter_map(|change| match change {
        Change::TellCa(errand) => Some(errand),
        _ => None,
    })
}

fn placings(set: &ChangeSet) -> impl Iterator<Item = &ServicePlacing> {
    set.changes.iter().filter_map(|change| match change {
        Change::PlaceForService(placing) => Some(placing),
        _ => None,
    })
}

fn links(set: &ChangeSet) -> impl Iterator<Item = &FileLink> {
    set.changes.iter().filter_map(|change| match change {
        Change::LinkFile(link) => Some(link),
        _ => None,
    })
}

fn removals(set: &ChangeSet) -> impl Iterator<Item = &FileRemoval> {
    set.changes.iter().filter_map(|change| match change {
        Change::RemoveFile(removal) => Some(removal),
        _ => None,
    })
}

/// Copies every file that will be replaced into `kept/ENTRY/`, and says how each change is taken back.
fn keep_what_is_replaced(harbor: &Harbor, entry: i64, set: &ChangeSet) -> Result<Vec<Inverse>, CarryError> {
    let folder = harbor.layout.kept().join(entry.to_string());
    let mut inverses = Vec::new();
    let mut copies: Vec<(PathBuf, Vec<u8>)> = Vec::new();
    for (number, write) in writes(set).enumerate() {
        let (path, wrote_hash) = (write.path.clone(), content_hash(&write.content));
        match read_if_there(&write.path)? {
            None => inverses.push(Inverse::Remove { path, wrote_hash }),
            Some(content) => {
                let kept = folder.join(number.to_string());
                copies.push((kept.clone(), content));
                inverses.push(Inverse::Restore { path, wrote_hash, kept, mode: write.mode });
            }
        }
    }
    for (number, removal) in removals(set).enumerate() {
        if let Some(to) = link_target(&removal.path) {
            inverses.push(Inverse::PutBackLink { path: removal.path.clone(), to });
            continue;
        }
        let kept = folder.join(format!("removed-{number}"));
        copies.push((kept.clone(), read_if_there(&removal.path)?.unwrap_or_default()));
        inverses.push(Inverse::PutBack { path: removal.path.clone(), kept, mode: removal.mode });
    }
    inverses.extend(links(set).map(|link| Inverse::RemoveLink { path: link.path.clone(), to: link.to.clone() }));
    if !copies.is_empty() {
        make_private_folder(&folder)?;
        let copies: Vec<Wanted<'_>> =
            copies.iter().map(|(path, content)| Wanted { path, content, mode: 0o600, keep: false }).collect();
        write_all_atomically(&copies)?;
    }
    let homes = folders(set).filter(|make| make.below.as_os_str().is_empty() && make.home.symlink_metadata().is_err());
    inverses.extend(homes.map(|make| Inverse::RemoveHome { home: make.home.clone() }));
    // Not there before, as the preconditions say: so it is ours to take back.
    inverses.extend(users(set).map(|make| Inverse::RemoveUser { name: make.name.clone(), home: make.home.clone() }));
    inverses.extend(placings(set).map(|placing| Inverse::TakeFromService {
        service: placing.name.clone(),
        link: placing.service.folder.clone(),
        former: placing.former.clone(),
        folder: placing.folder.clone(),
    }));
    inverses.extend(updates(set).map(|update| Inverse::Update(inverse_of(update))));
    Ok(inverses)
}

/// Which servers may have heard of a change.
#[derive(Debug, Clone, Copy, Default)]
struct Told {
    any: bool,
    dns: bool,
}

/// Phase by phase, as the core has put them in order.
async fn apply(
    harbor: &Harbor,
    set: &ChangeSet,
    now: Timestamp,
    tell: &dyn Fn(Event),
    work: &AtWork,
    told: &mut Told,
    updated: &mut Vec<Inverse>,
) -> Result<(), Cause> {
    for phase in set.phases() {
        work.goes_on().map_err(Cause::Stopped)?;
        told.any |= phase.tells_servers();
        told.dns |= phase == Phase::ZoneLoads;
        carry_phase(phase, harbor, set, now, tell, updated).await?;
    }
    Ok(())
}

async fn carry_phase(
    phase: Phase,
    harbor: &Harbor,
    set: &ChangeSet,
    now: Timestamp,
    tell: &dyn Fn(Event),
    updated: &mut Vec<Inverse>,
) -> Result<(), Cause> {
    let (settings, layout) = (&harbor.settings, &harbor.layout);
    match phase {
        Phase::Files => {
            for make in folders(set).filter(|make| make.early) {
                make_folder(make)?;
            }
            put_files(set, tell)?;
        }
        Phase::ZoneChecks => {
            let needs = set.needs();
            let zones: Vec<_> = needs.all_zones().map(|zone| (zone.clone(), layout.zone_file(zone))).collect();
            tell(Event::CheckingZones(zones.len()));
            check_zones(settings, &zones).await?;
        }
        Phase::WebTest => {
            tell(Event::TestingWebServer);
            refuse_spoilt_certificates(harbor, set, now, tell)?;
            test_web(settings).await?;
        }
        Phase::PoolTest => {
            tell(Event::TestingPools);
            let needs = set.needs();
            test_pools(settings, &[&needs.pools[..], &needs.gone_pools].concat()).await?;
        }
        Phase::PoolReload => {
            tell(Event::ReloadingPools);
            let pools = set.needs().pools;
            reload_pools(settings, &pools).await?;
            await_pools(settings, &pools).await?;
        }
        Phase::PoolsGone => {
            tell(Event::ReloadingPools);
            reload_pools(settings, &set.needs().gone_pools).await?;
        }
        Phase::Users => {
            for user in users(set) {
                make_user(user).await?;
            }
        }
        Phase::Folders => {
            for make in folders(set).filter(|make| !make.early) {
                if make.home.starts_with(layout.php()) {
                    make_open(&layout.php())?;
                }
                make_folder(make)?;
            }
        }
        Phase::ZoneLoads => {
            tell(Event::LoadingZones);
            let needs = set.needs();
            load_zones(settings, layout, &needs).await?;
            let zones: Vec<_> = needs.all_zones().collect();
            await_serials(settings, layout, &zones, |done| tell(Event::ZonesServed { done, of: zones.len() })).await?;
            for (zone, signed) in signing_changes(set) {
                tell(Event::AwaitingSignatures(zone.clone()));
                await_signing(settings, zone, signed).await?;
                if !signed {
                    forget_signing(settings, zone, false).await?;
                }
            }
            let gone = set.inventory_changes().filter_map(|change| match change {
                InventoryChange::RemoveZone(zone) if zone.signing.is_some() => Some(&zone.name),
                _ => None,
            });
            for zone in gone {
                // What it keeps of a zone that is gone harms nobody until one of the name is signed again.
                let _ = forget_signing(settings, zone, true).await;
            }
        }
        Phase::Updates => {
            for update in updates(set) {
                tell(Event::UpdatingZone(update.zone.clone()));
                send(update).await?;
                updated.push(Inverse::Update(inverse_of(update)));
                // A serial that was not read (the catalog's) is not waited for.
                if update.serial != 0 {
                    await_newer(update.server, &update.zone, update.serial).await?;
                }
            }
        }
        Phase::WebReload => {
            tell(Event::ReloadingWebServer);
            reload_web(settings).await?;
        }
        Phase::Services => {
            for placing in placings(set) {
                tell(Event::ReloadingService(placing.name.clone()));
                place_for_service(placing).await?;
            }
        }
        Phase::Cas => {
            for errand in errands(set) {
                tell(Event::TellingCa(errand.ca.clone()));
                run_errand(errand, settings, layout).await?;
            }
        }
    }
    Ok(())
}

/// The zones whose signing is switched on or off by the set.
fn signing_changes(set: &ChangeSet) -> impl Iterator<Item = (&Hostname, bool)> {
    set.inventory_changes().filter_map(|change| match change {
        InventoryChange::ReplaceZone { before, after } => {
            let differs = before.signing.is_some() != after.signing.is_some();
            differs.then_some((&after.name, after.signing.is_some()))
        }
        _ => None,
    })
}

fn put_files(set: &ChangeSet, tell: &dyn Fn(Event)) -> Result<(), Cause> {
    let count = writes(set).count();
    if count > 0 {
        tell(Event::WritingFiles(count));
    }
    for write in writes(set) {
        if matches!(write.purpose, Purpose::Key | Purpose::Chain | Purpose::Staple | Purpose::Copy) {
            make_private_folder(write.path.parent().unwrap_or(&write.path))?;
        }
    }
    let files: Vec<Wanted<'_>> = writes(set)
        .map(|write| Wanted {
            path: &write.path,
            content: &write.content,
            mode: write.mode,
            keep: matches!(write.purpose, Purpose::ZoneFile { .. } | Purpose::ServerFile),
        })
        .collect();
    write_all_atomically(&files)?;
    for removal in removals(set) {
        remove_file(&removal.path)?;
    }
    for made in links(set) {
        link(&made.path, &made.to)?;
    }
    Ok(())
}

/// A fault that would end the server refuses the reload. A date that has run out refuses it only for a file that
/// this very change writes; elsewhere it is told.
fn refuse_spoilt_certificates(
    harbor: &Harbor,
    set: &ChangeSet,
    now: Timestamp,
    tell: &dyn Fn(Event),
) -> Result<(), Cause> {
    let folder = harbor.layout.site_files(harbor.settings.web.server);
    let seen = check_certificate_files(&folder, now);
    if let Some(file) = seen.stapled
        && let Err(problem) = can_staple(&harbor.settings, &harbor.layout)
    {
        let (named_in, path) = (file.display().to_string(), "SSLUseStapling".to_string());
        return Err(Cause::Certificate(CertificateFault { named_in, path, problem, only_dated: false }));
    }
    for fault in seen.faults {
        let own = writes(set).any(|write| write.path == Path::new(&fault.named_in));
        if fault.only_dated && !own {
            tell(Event::OutOfDate(fault));
        } else {
            return Err(Cause::Certificate(fault));
        }
    }
    Ok(())
}

/// Who gave the command, for the logbook: behind root, the user who became root for it, as sudo tells.
fn who() -> String {
    let uid = rustix::process::getuid().as_raw();
    let behind =
        std::env::var("SUDO_USER").ok().filter(|user| uid == 0 && user != "root" && check_system_user(user).is_ok());
    if let Some(user) = behind {
        return format!("{user} (sudo)");
    }
    match uzers::get_user_by_uid(uid) {
        Some(user) => user.name().to_string_lossy().into_owned(),
        None => format!("uid {uid}"),
    }
}

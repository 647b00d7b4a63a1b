//! Taking back: after a failure in the same command, or for a command that was killed.
//!
//! A file is only taken back while it is as the entry wrote it; one that somebody has edited since is left alone and
//! told. An update of a zone is taken back by another one, with requirements that say the same.

use std::fs;
use std::path::{Path, PathBuf};

use brightharbor_core::change::{CaErrand, Needs, Purpose, Recorded, RecordedChange, ZoneUpdate, content_hash};

use super::put_back::Raised;
use super::{Cause, Lock};
use crate::dns::{RequestProblem, TransactionKey, send_update};
use crate::harbor::Harbor;
use crate::install::{
    UNFINISHED, link, link_target, read_if_there, reload_service, remove_empty, remove_file, remove_user,
    take_from_service, write_atomically, write_in_its_place,
};
use crate::server::{reload_pools, reload_web, test_pools, test_web, unload_zones};
use crate::store::{EntryOutcome, Inverse, StoreError};

/// A command that was found killed, and what became of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Recovered {
    pub title: String,
    /// What could not be taken back, in words.
    pub left: Vec<String>,
    /// Files are among it: the next command tries again.
    pub again: bool,
    /// Whether the CA has heard of these is not known.
    pub errands: Vec<CaErrand>,
}

/// Rolls back every command that was begun and not ended. The lock is proof that none of them still runs.
pub async fn recover(harbor: &Harbor, _lock: &Lock) -> Result<Vec<Recovered>, StoreError> {
    let mut recovered = Vec::new();
    for begun in harbor.store.unfinished()? {
        let mut left = undo_updates(&begun.inverses).await;
        // How far it had come is not known: the server may be about to load what it was told.
        let needs = begun.changes.needs();
        let raised = Raised::of(&harbor.settings, &harbor.layout, &needs, needs.dns());
        let files = undo_files(&begun.inverses, &raised).await;
        let again = !files.is_empty();
        left.extend(files);
        note_put_back(harbor, &begun.changes);
        tell_services(harbor, &begun.inverses).await;
        left.extend(take_back(harbor, &needs).await);
        let errands = unknown_errands(&begun.changes);
        let is_whole = left.is_empty() && errands.is_empty();
        if !again {
            let outcome = if is_whole { EntryOutcome::RolledBack } else { EntryOutcome::Failed };
            harbor.store.end(
                begun.id,
                outcome,
                "it was killed, or could not be taken back whole; the next one did that",
            )?;
        }
        clear_up(harbor, begun.id, &begun.inverses, left.is_empty());
        recovered.push(Recovered { title: begun.title, left, again, errands });
    }
    clear_kept(harbor)?;
    Ok(recovered)
}

/// Whether copies lie in `kept/` that no command may need any more.
pub fn has_leftovers(harbor: &Harbor) -> Result<bool, StoreError> {
    Ok(!leftovers(harbor)?.is_empty())
}

/// A command that was killed before it was noted, or just after it had ended, leaves its copies.
fn clear_kept(harbor: &Harbor) -> Result<(), StoreError> {
    for folder in leftovers(harbor)? {
        let _ = fs::remove_dir_all(folder);
    }
    Ok(())
}

/// What could not be taken back whole may still be wanted by somebody.
fn leftovers(harbor: &Harbor) -> Result<Vec<PathBuf>, StoreError> {
    let mut all = Vec::new();
    for entry in fs::read_dir(harbor.layout.kept()).into_iter().flatten().flatten() {
        let number = entry.file_name().to_str().and_then(|name| name.parse().ok());
        let outcome = number.map(|number| harbor.store.outcome(number)).transpose()?.flatten();
        if !matches!(outcome, Some(EntryOutcome::Begun | EntryOutcome::Failed)) {
            all.push(entry.path());
        }
    }
    Ok(all)
}

/// What a CA may have been told or not when the command was killed.
fn unknown_errands(recorded: &Recorded) -> Vec<CaErrand> {
    let errand = |change: &RecordedChange| match change {
        RecordedChange::TellCa(errand) => Some(errand.clone()),
        _ => None,
    };
    recorded.changes.iter().filter_map(errand).collect()
}

/// Removes what is not needed any more: the kept copies, and halves of files that a killed command has left beside
/// the real ones.
pub(super) fn clear_up(harbor: &Harbor, entry: i64, inverses: &[Inverse], taken_back: bool) {
    if taken_back {
        let _ = fs::remove_dir_all(harbor.layout.kept().join(entry.to_string()));
    }
    for inverse in inverses {
        let (Inverse::Remove { path, .. } | Inverse::Restore { path, .. } | Inverse::PutBack { path, .. }) = inverse
        else {
            continue;
        };
        let beside = path.parent().and_then(|folder| fs::read_dir(folder).ok());
        for file in beside.into_iter().flatten().flatten() {
            if file.file_name().to_string_lossy().starts_with(UNFINISHED) {
                let _ = fs::remove_file(file.path());
            }
        }
        // The command was killed when it had made the folder, and no file in it.
        drop_if_empty(path);
    }
}

/// Takes files, system users and what services have got back, the last first. Gives what could not be.
pub(super) async fn undo_files(inverses: &[Inverse], raised: &Raised<'_>) -> Vec<String> {
    let mut left = Vec::new();
    for inverse in inverses.iter().rev() {
        left.extend(undo_file(inverse, raised).await.err());
    }
    left
}

async fn undo_file(inverse: &Inverse, raised: &Raised<'_>) -> Result<(), String> {
    match inverse {
        Inverse::Remove { path, wrote_hash } => {
            if is_as_written(path, wrote_hash)? {
                remove_file(path).map_err(|error| error.to_string())?;
                drop_if_empty(path);
            }
            Ok(())
        }
        Inverse::Restore { path, wrote_hash, kept, mode } => {
            let present = read_if_there(path).map_err(|error| error.to_string())?;
            let Some(written) = present.filter(|content| content_hash(content) == *wrote_hash) else { return Ok(()) };
            let content = fs::read(kept).map_err(|error| format!("{}: {error}", kept.display()))?;
            let content = raised.content(path, written, content).await;
            write_in_its_place(path, &content, *mode).map_err(|error| error.to_string())
        }
        Inverse::PutBack { path, kept, mode } => {
            if read_if_there(path).map_err(|error| error.to_string())?.is_some() {
                return Ok(());
            }
            let content = fs::read(kept).map_err(|error| format!("{}: {error}", kept.display()))?;
            write_atomically(path, &content, *mode).map_err(|error| error.to_string())
        }
        Inverse::RemoveLink { path, to } => match link_target(path) {
            Some(present) if present == *to => remove_file(path).map_err(|error| error.to_string()),
            _ => Ok(()),
        },
        Inverse::PutBackLink { path, to } => match path.symlink_metadata() {
            Ok(_) => Ok(()),
            Err(_) => link(path, to).map_err(|error| error.to_string()),
        },
        Inverse::RemoveHome { home } => remove_empty(home).map_err(|error| error.to_string()),
        Inverse::RemoveUser { name, home } => remove_user(name, home).await.map_err(|error| error.to_string()),
        Inverse::TakeFromService { link, former, folder, .. } => {
            take_from_service(link, former.as_deref(), folder).map_err(|error| error.to_string())
        }
        Inverse::Update(_) => Ok(()),
    }
}

/// A zone file that was put back under a higher serial is as it was loaded, and no edit of somebody's. What cannot be noted
/// is only taken for one.
pub(super) fn note_put_back(harbor: &Harbor, recorded: &Recorded) {
    let Ok(loaded) = harbor.store.loaded_files() else { return };
    for change in &recorded.changes {
        let RecordedChange::WriteFile { path, before_hash, purpose: Purpose::ZoneFile { zone }, .. } = change else {
            continue;
        };
        if before_hash.is_some()
            && before_hash.as_ref() == loaded.get(zone)
            && let Ok(Some(content)) = read_if_there(path)
        {
            let _ = harbor.store.put_back(zone, &content_hash(&content));
        }
    }
}

/// A service may have taken the new files, or a part of them: with the former ones it is asked once more, as the settings
/// say by now. What it says does not matter: it has what it had.
pub(super) async fn tell_services(harbor: &Harbor, inverses: &[Inverse]) {
    for inverse in inverses {
        let Inverse::TakeFromService { service, link, .. } = inverse else { continue };
        if let Some(service) = harbor.settings.services.get(service).filter(|service| service.folder == *link) {
            let _ = reload_service(service).await;
        }
    }
}

/// The update that takes another one back.
pub(super) fn inverse_of(update: &ZoneUpdate) -> ZoneUpdate {
    ZoneUpdate { update: update.update.inverse(), ..update.clone() }
}

/// Sends an update, signed with the key that it names.
pub(super) async fn send(update: &ZoneUpdate) -> Result<(), Cause> {
    let key = TransactionKey::read(&update.key_file)?;
    let zone = update.zone.clone();
    send_update(update.server, &update.update, &key).await.map_err(|error| Cause::Update { zone, error })
}

/// Takes updates back, the last first. One that was not sent yet, or that somebody has changed since, is left alone:
/// its requirements do not hold. Gives what could not be taken back.
pub(super) async fn undo_updates(inverses: &[Inverse]) -> Vec<String> {
    let mut left = Vec::new();
    for inverse in inverses.iter().rev() {
        let Inverse::Update(update) = inverse else { continue };
        match send(update).await {
            Ok(()) => {}
            Err(Cause::Update { error, .. }) if matches!(error.problem, RequestProblem::ChangedMeanwhile) => {}
            Err(error) => left.push(error.to_string()),
        }
    }
    left
}

/// Whether the file is as the entry wrote it. Not written yet is fine; anything else is somebody's edit.
fn is_as_written(path: &Path, wrote_hash: &str) -> Result<bool, String> {
    let present = read_if_there(path).map_err(|error| error.to_string())?;
    Ok(present.is_some_and(|content| content_hash(&content) == wrote_hash))
}

/// A certificate's folder is made for its own files alone.
fn drop_if_empty(path: &Path) {
    let private =
        path.file_name().is_some_and(|name| ["key.pem", "chain.pem", "staple.der"].iter().any(|own| name == *own));
    if let Some(folder) = path.parent().filter(|_| private) {
        let _ = fs::remove_dir(folder);
    }
}

/// Makes the servers read the files again as they were. Gives what did not work.
pub(super) async fn take_back(harbor: &Harbor, needs: &Needs) -> Vec<String> {
    let mut left = Vec::new();
    if needs.dns() {
        let unloaded = unload_zones(&harbor.settings, &harbor.layout, needs).await;
        left.extend(unloaded.err().map(|error| error.to_string()));
    }
    // Those that the web server asks again come first.
    let pools = [&needs.pools[..], &needs.gone_pools].concat();
    if !pools.is_empty() {
        let again = match test_pools(&harbor.settings, &pools).await {
            Ok(()) => reload_pools(&harbor.settings, &pools).await,
            refused => refused,
        };
        left.extend(again.err().map(|error| error.to_string()));
    }
    if needs.web_reload {
        let again = match test_web(&harbor.settings).await {
            Ok(()) => reload_web(&harbor.settings).await,
            refused => refused,
        };
        left.extend(again.err().map(|error| error.to_string()));
    }
    left
}

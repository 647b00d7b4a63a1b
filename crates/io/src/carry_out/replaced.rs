//! Copies of what the last commands replaced, for somebody who wants the former state again (`core::change::undo`): one
//! folder an entry of the logbook, without anything secret, for a bounded number of entries of a bounded size.

use std::collections::HashSet;
use std::fs;
use std::path::{Path, PathBuf};

use brightharbor_core::change::{Change, ChangeSet, Purpose};
use brightharbor_core::harbor::Layout;

use crate::install::make_private_folder;
use crate::store::Inverse;

/// So many entries keep their copies.
const MOST_ENTRIES: i64 = 200;
/// More than that of one entry is not kept: what writes so much writes it anew from the inventory.
const MOST_BYTES: u64 = 64 << 20;

/// Keeps the copies that an entry was carried out with. Whatever fails leaves fewer of them, and harms nobody.
pub(super) fn keep(layout: &Layout, entry: i64, set: &ChangeSet, inverses: &[Inverse]) {
    let folder = layout.kept().join(entry.to_string());
    let secret = |change: &'_ Change| match change {
        Change::WriteFile(write) => is_secret(&write.purpose).then(|| write.path.clone()),
        Change::RemoveFile(removal) => is_secret(&removal.purpose).then(|| removal.path.clone()),
        _ => None,
    };
    let secret: HashSet<PathBuf> = set.changes.iter().filter_map(secret).collect();
    let mut bytes = 0;
    for inverse in inverses {
        let (Inverse::Restore { path, kept, .. } | Inverse::PutBack { path, kept, .. }) = inverse else { continue };
        if secret.contains(path) {
            let _ = fs::remove_file(kept);
        } else {
            bytes += fs::metadata(kept).map_or(0, |found| found.len());
        }
    }
    let is_kept = bytes > 0 && bytes <= MOST_BYTES && make_private_folder(&layout.replaced()).is_ok();
    if !is_kept || fs::rename(&folder, layout.replaced().join(entry.to_string())).is_err() {
        let _ = fs::remove_dir_all(folder);
    }
    for old in fs::read_dir(layout.replaced()).into_iter().flatten().flatten() {
        let number: Option<i64> = old.file_name().to_str().and_then(|name| name.parse().ok());
        if number.is_some_and(|number| number <= entry - MOST_ENTRIES) {
            let _ = fs::remove_dir_all(old.path());
        }
    }
}

/// Settings may name keys, but hold none; chains go with their keys.
fn is_secret(purpose: &Purpose) -> bool {
    matches!(purpose, Purpose::Key | Purpose::Chain | Purpose::Staple | Purpose::Request | Purpose::Copy)
}

/// Where the copy of a file lies that an entry has replaced.
pub fn copy_of(layout: &Layout, entry: i64, kept: &Path) -> PathBuf {
    layout.replaced().join(entry.to_string()).join(kept.file_name().unwrap_or_default())
}

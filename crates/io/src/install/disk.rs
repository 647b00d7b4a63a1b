//! The disk that a folder takes. Links are counted and not followed, so that none leads out of a home.

use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::Path;

/// More entries than this are not walked.
const MOST_ENTRIES: usize = 2_000_000;

/// Bytes on disk below the folder; what cannot be read counts as nothing.
pub fn disk_used(root: &Path) -> u64 {
    let mut open = vec![root.to_path_buf()];
    let (mut bytes, mut entries) = (0, 0);
    while let Some(folder) = open.pop() {
        for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
            entries += 1;
            if entries > MOST_ENTRIES {
                return bytes;
            }
            let Ok(metadata) = entry.metadata() else { continue };
            bytes += metadata.blocks() * 512;
            if metadata.is_dir() {
                open.push(entry.path());
            }
        }
    }
    bytes
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_below_are_added_up_and_links_are_not_followed() {
        let folder = tempfile::tempdir().unwrap();
        fs::create_dir(folder.path().join("below")).unwrap();
        fs::write(folder.path().join("below/page"), vec![1; 100_000]).unwrap();
        std::os::unix::fs::symlink("/", folder.path().join("way-out")).unwrap();
        let used = disk_used(folder.path());
        assert!((100_000..400_000).contains(&used), "{used}");
        assert_eq!(disk_used(&folder.path().join("none")), 0);
    }
}

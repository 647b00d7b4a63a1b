//! Floors: modes of files, secrets that never show.

use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::Path;

use crate::coast::Coast;

fn mode(path: &Path) -> u32 {
    fs::metadata(path).unwrap_or_else(|error| panic!("{}: {error}", path.display())).mode() & 0o7777
}

fn all_files(folder: &Path, found: &mut Vec<std::path::PathBuf>) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() { all_files(&path, found) } else { found.push(path) }
    }
}

#[test]
fn keys_are_0600_in_0700_and_are_shown_nowhere() {
    let coast = Coast::new();
    coast.run(&["attach", "crumbandtide.example", "--account", "bakery"]).expect(3);
    coast.delegate_here("crumbandtide.example");
    let text = coast.run(&["tend"]).expect(0);
    let harbor = coast.harbor();
    for folder in ["certificates", "certificates/crumbandtide.example", "ca", "kept"] {
        assert_eq!(mode(&harbor.join(folder)), 0o700, "{folder}");
    }
    for folder in [".", "zones", "servers/plain", "proofs"] {
        assert_eq!(mode(&harbor.join(folder)), 0o755, "{folder}");
    }
    assert_eq!(mode(&harbor.join("inventory.sqlite")), 0o600);
    let mut files = Vec::new();
    all_files(&harbor, &mut files);
    let mut keys = 0;
    for file in &files {
        let content = fs::read(file).unwrap();
        let holds_key = content.windows(11).any(|window| window == b"PRIVATE KEY");
        if holds_key {
            keys += 1;
            assert_eq!(mode(file), 0o600, "{}", file.display());
            assert!(!file.to_string_lossy().contains("inventory"), "{}", file.display());
        }
        assert!(!file.to_string_lossy().contains("/proofs/"), "left behind: {}", file.display());
    }
    assert_eq!(keys, 2, "the account's key and the certificate's");
    assert!(!text.contains("PRIVATE"));
    assert_eq!(mode(&coast.path("homes/bakery")), 0o711);
    assert_eq!(mode(&coast.path("homes/bakery/www/crumbandtide.example")), 0o755);
}

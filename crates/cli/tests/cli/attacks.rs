//! What a customer, or whoever else has an account on the machine, tries against a harbor that root works with. These need
//! root: without it, the program can do nothing that the attacker could not do as well, and there is nothing to try.

use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt, chown, lchown, symlink};
use std::path::Path;
use std::process::Command;

use super::coast::{Coast, run};
use super::real::servers::need;

/// A user that nobody has.
const STRANGER: u32 = 54_321;

/// Whether the attacks can be tried; said where they cannot.
fn can_attack() -> bool {
    let is_root = brightharbor_io::install::is_root();
    if !is_root {
        eprintln!("not root: nothing to attack");
    }
    is_root
}

fn mode(path: &Path, mode: u32) {
    fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
}

#[test]
fn root_works_with_no_harbor_that_others_could_change() {
    let coast = Coast::new();
    if !can_attack() {
        return;
    }
    let (harbor, settings) = (coast.harbor(), coast.harbor().join("harbor.toml"));
    let refused = |what: &str| {
        let document = coast.json(&["account", "list"], 4);
        assert_eq!(document["error"]["code"], "others-may-change", "{what}: {document}");
    };
    chown(&settings, Some(STRANGER), None).unwrap();
    refused("the settings of a stranger");
    chown(&settings, Some(0), None).unwrap();
    mode(&settings, 0o666);
    refused("settings that all may write");
    mode(&settings, 0o644);
    mode(&harbor, 0o777);
    refused("a harbor that all may write");
    mode(&harbor, 0o755);
    chown(coast.path(""), Some(STRANGER), None).unwrap();
    refused("a folder of a stranger above the harbor");
    chown(coast.path(""), Some(0), None).unwrap();
    coast.run(&["account", "list"]).expect(0);
}

#[test]
fn a_key_file_that_others_could_change_signs_nothing() {
    let coast = Coast::new();
    if !can_attack() {
        return;
    }
    let key = coast.path("transfer.key");
    fs::write(&key, "key \"quay\" { algorithm hmac-sha256; secret \"c2VhLXdhdGVyLWFuZC1icmVhZA==\"; };\n").unwrap();
    mode(&key, 0o600);
    let settings = coast.harbor().join("harbor.toml");
    let text = fs::read_to_string(&settings).unwrap();
    let primary = format!("[primaries.quay]\naddress = \"127.0.0.9:9\"\nkey-file = \"{}\"\n", key.display());
    fs::write(&settings, format!("{text}\n{primary}")).unwrap();
    chown(&key, Some(STRANGER), None).unwrap();
    let create = ["zone", "create", "gullrock.example", "--account", "bakery", "--home", "remote", "--primary", "quay"];
    let refused = coast.run(&create);
    assert!(
        refused.exit != 0
            && format!("{refused:?}").contains("key file: ")
            && refused.stderr.contains("let nobody but root"),
        "{refused:?}"
    );
}

/// Links, files, pipes and hard links that a customer plants where the tool makes folders and files.
#[test]
fn nothing_planted_in_a_home_leads_root_out_of_it() {
    let coast = Coast::new();
    if !can_attack() {
        return;
    }
    let (home, outside) = (coast.path("homes/bakery"), coast.path("outside"));
    fs::create_dir(&outside).unwrap();
    fs::write(outside.join("secret"), "of root").unwrap();
    mode(&outside.join("secret"), 0o600);
    chown(&home, Some(STRANGER), Some(STRANGER)).unwrap();
    let before = snapshot(&outside);
    let roots = ["www", "www/crumbandtide.example", "www/crumbandtide.example/index.html"];
    for level in roots {
        for kind in ["link to a folder", "link to a file", "dangling link", "pipe", "device", "file", "hard link"] {
            let www = home.join("www");
            let _ = fs::remove_file(&www);
            let _ = fs::remove_dir_all(&www);
            let planted = home.join(level);
            fs::create_dir_all(planted.parent().unwrap()).unwrap();
            match kind {
                "link to a folder" => symlink(&outside, &planted).unwrap(),
                "link to a file" => symlink(outside.join("secret"), &planted).unwrap(),
                "dangling link" => symlink(outside.join("new"), &planted).unwrap(),
                "pipe" => {
                    assert!(std::process::Command::new("mkfifo").arg(&planted).status().unwrap().success());
                }
                // One that never ends, for who reads it.
                "device" => {
                    let made = Command::new("mknod").arg(&planted).args(["c", "1", "5"]).status();
                    assert!(made.unwrap().success(), "root may make devices");
                }
                "file" => fs::write(&planted, "the customer's").unwrap(),
                _ => fs::hard_link(outside.join("secret"), &planted).unwrap(),
            }
            lchown(&planted, Some(STRANGER), Some(STRANGER)).unwrap();
            // A hard link is the file itself: what belongs to root goes on belonging to root.
            if kind == "hard link" {
                chown(outside.join("secret"), Some(0), Some(0)).unwrap();
            }
            let done = coast.run(&["attach", "crumbandtide.example", "--account", "bakery", "--existing"]);
            assert_eq!(snapshot(&outside), before, "{kind} at {level}: {done:?}");
            if [0, 3].contains(&done.exit) {
                coast.run(&["detach", "crumbandtide.example", "--yes"]).expect(0);
                coast.run(&["zone", "remove", "crumbandtide.example", "--yes"]);
            }
        }
    }
}

/// The home of one account below that of another one, as an older harbor may have it: its owner moves it away and puts a
/// link there.
#[test]
fn a_link_in_the_home_of_another_account_leads_nowhere() {
    let coast = Coast::new();
    if !can_attack() {
        return;
    }
    let (reseller, outside) = (coast.path("homes/bakery"), coast.path("outside"));
    fs::create_dir(&outside).unwrap();
    chown(&reseller, Some(STRANGER), Some(STRANGER)).unwrap();
    coast.run(&["account", "add", "choir", "--email", "choir@saltmarsh.example"]).expect(0);
    let inventory = rusqlite::Connection::open(coast.harbor().join("inventory.sqlite")).unwrap();
    let below = reseller.join("customers/choir").display().to_string();
    inventory.execute("UPDATE account SET home = $1 WHERE name = 'choir'", [&below]).unwrap();
    drop(inventory);
    symlink(&outside, reseller.join("customers")).unwrap();
    lchown(reseller.join("customers"), Some(STRANGER), None).unwrap();
    let failed = coast.run(&["attach", "lanternchoir.example", "--account", "choir"]).expect(5);
    assert!(failed.contains("is a symbolic link"), "{failed}");
    assert_eq!(fs::read_dir(&outside).unwrap().count(), 0);
}

/// Path, owner, mode and content of everything below.
fn snapshot(folder: &Path) -> Vec<(String, u32, u32, Vec<u8>)> {
    let mut all = Vec::new();
    for entry in fs::read_dir(folder).unwrap().flatten() {
        let found = entry.metadata().unwrap();
        let content = if found.is_file() { fs::read(entry.path()).unwrap() } else { vec![] };
        all.push((entry.path().display().to_string(), found.uid(), found.mode(), content));
    }
    let own = fs::metadata(folder).unwrap();
    all.push((folder.display().to_string(), own.uid(), own.mode(), vec![]));
    all.sort();
    all
}

/// A sandbox that looks into the arguments of system calls cannot look into those of `openat2`, and refuses the call whole.
#[test]
fn a_sandbox_without_openat2_changes_nothing_of_what_is_safe() {
    let coast = Coast::new();
    let (home, outside) = (coast.path("homes/bakery"), coast.path("outside"));
    let without = |arguments: &[&str]| {
        let plain = coast.command(arguments);
        let mut strace = Command::new(need("strace", "strace"));
        strace.args(["-f", "-qq", "-o"]).arg(coast.path("log"));
        strace.args(["-e", "trace=openat2", "-e", "inject=openat2:error=ENOSYS", "-e", "signal=none"]);
        strace.arg(plain.get_program()).args(plain.get_args());
        for (name, value) in plain.get_envs() {
            value.map(|value| strace.env(name, value));
        }
        run(&mut strace)
    };
    without(&["attach", "quay.crumbandtide.example", "--account", "bakery"]).expect(3);
    assert!(fs::read_to_string(coast.path("log")).unwrap().contains("(INJECTED)"));
    assert!(home.join("www/quay.crumbandtide.example").is_dir());
    fs::create_dir(&outside).unwrap();
    symlink(&outside, home.join("www/pier.crumbandtide.example")).unwrap();
    let said = without(&["attach", "pier.crumbandtide.example", "--account", "bakery"]).expect(5);
    assert!(said.contains("symbolic link"), "{said}");
    assert_eq!(fs::read_dir(&outside).unwrap().count(), 0);
}

//! The pages of docs/ about the work around the commands: every line of them that can be typed is typed, in the order of the
//! page, in a harbor that has run for a while.

use std::fs;
use std::path::Path;
use std::process::Command;

use crate::coast::{Coast, Run, run};

/// How lines end that do not end with 0: something waits, or is not as it should be in this world.
const ENDS: &[(&str, &[i32])] = &[
    ("brightharbor init --check", &[0, 1, 3]),
    ("brightharbor tend", &[0, 3]),
    ("brightharbor survey", &[0, 1, 3]),
    ("brightharbor zone list", &[0, 3]),
    ("brightharbor zone realign", &[0, 3]),
    ("brightharbor zone load", &[0, 3]),
    ("brightharbor zone prepare-move", &[0, 3]),
    // The last thing that was done may be one that cannot be taken back.
    ("brightharbor undo --dry-run", &[0, 4]),
];

fn lines(page: &str) -> Vec<String> {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs").join(page);
    let text = fs::read_to_string(&path).unwrap();
    let typed = |line: &&str| {
        let line = line.trim();
        ["brightharbor ", "flock ", "tar ", "cp ", "mkdir "].iter().any(|word| line.starts_with(word))
    };
    let lines: Vec<String> = text
        .lines()
        .filter(|line| line.starts_with("    "))
        .filter(typed)
        .map(|line| line.trim().to_string())
        .collect();
    assert!(lines.len() >= 4, "{page}: {lines:?}");
    lines
}

/// Types a page; `between` may do something before a line.
fn typed(page: &str, between: impl Fn(&Coast, &str)) -> Coast {
    let coast = Coast::with_bakery();
    let programs = coast.path("bin");
    fs::create_dir(&programs).unwrap();
    std::os::unix::fs::symlink(env!("CARGO_BIN_EXE_brightharbor"), programs.join("brightharbor")).unwrap();
    fs::create_dir(coast.path("root")).unwrap();
    for line in lines(page) {
        between(&coast, &line);
        let harbor = coast.harbor().display().to_string();
        let here = line
            .replace("/var/lib/brightharbor", &harbor)
            .replace("/etc/brightharbor", &harbor)
            .replace("/root/", &format!("{}/", coast.path("root").display()))
            .replace("192.0.2.10", &coast.world.cast.web().to_string())
            .replace("192.0.2.11", &coast.world.cast.web().to_string());
        let path = format!("{}:{}", programs.display(), std::env::var("PATH").unwrap_or_default());
        let mut command = Command::new("sh");
        command.args(["-c", &here]).current_dir(coast.folder.path()).env("PATH", path);
        let ran: Run = run(command.env("BRIGHTHARBOR", &harbor).env("NO_COLOR", "1").env_remove("COLUMNS"));
        let ends = ENDS.iter().filter(|(start, _)| line.starts_with(start)).max_by_key(|(start, _)| start.len());
        assert!(ends.map_or(&[0][..], |(_, ends)| ends).contains(&ran.exit), "{page}: {line}\n{ran:?}");
    }
    coast
}

#[test]
fn what_is_copied_brings_a_lost_harbor_back() {
    let lost = |coast: &Coast, line: &str| {
        if line.starts_with("mkdir ") {
            fs::remove_dir_all(coast.harbor()).unwrap();
        }
    };
    let coast = typed("backup.md", lost);
    let sites = coast.json(&["site", "list"], 0)["sites"].clone();
    assert_eq!(sites[0]["hostnames"][0], "crumbandtide.example", "{sites}");
    assert_eq!(coast.json(&["survey", "crumbandtide.example"], 0)["exit"], 0);
    let copy = coast.path("root/harbor-list.toml");
    assert!(fs::read_to_string(copy).unwrap().contains("[sites.\"crumbandtide.example\"]"));
}

#[test]
fn an_upgrade_is_looked_through() {
    typed("upgrade.md", |_, _| {});
}

#[test]
fn a_move_is_made_in_its_order() {
    typed("moving.md", |_, _| {});
}

#[test]
fn colleagues_see_what_was_done() {
    let coast = typed("administrators.md", |_, _| {});
    if run(Command::new("id").arg("-u")).stdout.trim() != "0" {
        return;
    }
    let mut command = coast.command(&["record", "add", "crumbandtide.example", "TXT", "high water"]);
    run(command.env("SUDO_USER", "anna")).expect(0);
    let entry = coast.json(&["logbook", "--last", "1"], 0)["entries"][0].clone();
    assert_eq!(entry["who"], "anna (sudo)", "{entry}");
}

#[test]
fn what_is_watched_can_be_watched() {
    let coast = typed("monitoring.md", |_, _| {});
    for file in ["tend", "survey", "certificates", "zones"] {
        let text = fs::read_to_string(coast.path(&format!("root/{file}.prom"))).unwrap();
        assert!(text.starts_with("# HELP "), "{file}: {text}");
    }
}

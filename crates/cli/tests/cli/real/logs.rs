//! Logs of sites: two files in the folder of the account, which the account may read and nobody else.

use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::Path;

use super::php_pools::page;
use super::voyage::Port;

const SITE: &str = "crumbandtide.example";

fn are_kept_apart(kind: &str) {
    let port = Port::new(kind);
    assert!(!is_logged(&port), "no folder is named yet");
    let toml = port.path("harbor/harbor.toml");
    let logs = port.path("logs");
    let line = format!("[sites]\nlogs = \"{}\"\n", logs.display());
    fs::write(&toml, fs::read_to_string(&toml).unwrap().replacen("[sites]\n", &line, 1)).unwrap();
    // A site that was here before follows, and its account gets its folder before the server opens a log in it.
    port.run(&["site", "realign", "--all"]).expect(0);
    assert!(logs.join("choir").is_dir());
    port.json(&["detach", "lanternchoir.example"], 0);
    port.run(&["account", "add", "bakery", "--email", "baker@saltmarsh.example", "--system-user", "games"]).expect(0);
    port.delegate_here(SITE);
    let attached = port.run(&["attach", SITE, "--account", "bakery"]);
    assert!([0, 3].contains(&attached.exit), "{attached:?}");
    port.tend_until_served();
    page(&port, SITE, "/tides?today", vec![]);
    page(&port, SITE, "/.secret%1b[2J", vec![]);

    let folder = fs::metadata(logs.join("bakery")).unwrap();
    let games = fs::read_to_string("/etc/group").unwrap();
    let games = games.lines().find_map(|line| line.strip_prefix("games:x:")?.split(':').next()?.parse().ok());
    assert_eq!((folder.permissions().mode() & 0o777, folder.uid(), Some(folder.gid())), (0o750, 0, games));
    let shown = port.json(&["site", "log", SITE, "--lines", "50"], 0);
    let lines = shown["access"]["lines"].as_array().unwrap();
    assert!(lines.iter().any(|line| line.as_str().unwrap().contains("\"GET /tides?today HTTP/")), "{shown}");
    assert!(shown["errors"]["file"].as_str().unwrap().ends_with("logs/bakery/crumbandtide.example.error.log"));
    let raw = port.run(&["site", "log", SITE]).expect(0);
    assert!(!raw.contains('\u{1b}') && raw.contains("requests, from"), "{raw}");
    assert_eq!(port.json(&["site", "log", SITE, "--lines", "1"], 0)["access"]["lines"].as_array().unwrap().len(), 1);
    let site = port.json(&["site", "show", SITE], 0);
    assert_eq!(site["logs"]["access"], logs.join("bakery/crumbandtide.example.access.log").display().to_string());
    rotated(&logs);
}

fn is_logged(port: &Port) -> bool {
    port.run(&["account", "add", "choir", "--email", "choir@saltmarsh.example"]).expect(0);
    port.run(&["attach", "lanternchoir.example", "--account", "choir"]);
    let refused = port.json(&["site", "log", "lanternchoir.example"], 4);
    refused["error"]["code"] != "no-logs"
}

/// What is shipped for logrotate names the folder that the settings name by default.
fn rotated(logs: &Path) {
    let shipped = include_str!("../../../../../packaging/logrotate/brightharbor");
    let pattern = shipped.lines().find_map(|line| line.strip_suffix(" {")).unwrap();
    let parts: Vec<&str> = pattern.strip_prefix("/var/log/brightharbor/").unwrap().split('/').collect();
    assert_eq!(parts, ["*", "*.log"], "as deep as the logs lie");
    let found = fs::read_dir(logs.join("bakery")).unwrap().flatten();
    assert!(found.into_iter().all(|entry| entry.file_name().to_string_lossy().ends_with(".log")));
}

#[test]
fn by_nginx() {
    are_kept_apart("nginx");
}

#[test]
fn by_apache() {
    are_kept_apart("apache");
}

//! Lines of zone files that others might write, one zone each: BIND is the judge of what loads, and of what the data is.

use std::collections::BTreeSet;
use std::fs;
use std::path::Path;
use std::process::Command;

use super::servers::need;
use crate::coast::{brightharbor, run};

const LINES: &str = include_str!("../../data/record_lines.txt");
const HEAD: &str = "$TTL 3600\n@ SOA ns1 host 7 4h 30m 4w 5m\n@ NS ns1\nns1 A 192.0.2.1\n";

/// The records as BIND writes them, or none if it refuses the zone.
fn as_bind_has_it(folder: &Path, text: &[u8]) -> Option<BTreeSet<String>> {
    let (file, out) = (folder.join("judged.zone"), folder.join("judged.out"));
    fs::write(&file, text).unwrap();
    let _ = fs::remove_file(&out);
    let done = Command::new(need("named-checkzone", "bind9-utils"))
        .args(["-k", "fail", "-i", "none", "-D", "-o"])
        .args([out.as_path(), Path::new("gullrock.example"), &file])
        .output()
        .unwrap();
    let written = done.status.success().then(|| fs::read_to_string(&out).unwrap())?;
    Some(written.lines().map(|line| line.split_whitespace().collect::<Vec<_>>().join(" ")).collect())
}

#[test]
fn each_line_is_understood_as_bind_understands_it() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("ours.zone");
    let mut wrong = Vec::new();
    let lines: Vec<&str> = LINES.lines().filter(|line| !line.starts_with('#')).collect();
    for line in &lines {
        let text = format!("{HEAD}{}\n", line.replace('⏎', "\n").replace('␍', "\r"));
        fs::write(&file, &text).unwrap();
        let printed = run(brightharbor().args(["zone", "print", "--origin", "gullrock.example"]).arg(&file));
        let judged = as_bind_has_it(folder.path(), text.as_bytes());
        let ours = (printed.exit == 0).then(|| as_bind_has_it(folder.path(), printed.stdout.as_bytes()));
        match (judged, ours) {
            (None, None) => {}
            (Some(judged), Some(Some(ours))) if judged == ours => {}
            (judged, ours) => wrong.push(format!("{line}\n  BIND: {judged:?}\n  here: {ours:?}\n  {}", printed.stderr)),
        }
    }
    assert!(lines.len() > 200, "{}", lines.len());
    assert!(wrong.is_empty(), "{} of {}:\n{}", wrong.len(), lines.len(), wrong.join("\n"));
}

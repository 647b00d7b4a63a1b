//! The real `named-checkzone` and `named-compilezone` as judges: our reader accepts what they accept, refuses what
//! they refuse, and takes the same records from it.

mod zones;

use std::collections::BTreeSet;
use std::path::Path;
use std::process::Command;

use brightharbor_core::name::DnsName;
use brightharbor_core::zone::rules::judge_loading;
use brightharbor_core::zone::{Document, Record};
use zones::{HEAD, ZONES};

const PART: &str = "first A 192.0.2.50\n@ TXT part\n$ORIGIN deeper\nx A 192.0.2.51\n";

fn origin() -> DnsName {
    DnsName::absolute("gullrock.example").unwrap()
}

/// What we make of a zone file: its records, or why it would not be loaded.
fn ours(text: &[u8], folder: &Path) -> Result<BTreeSet<String>, String> {
    let mut fetch = |file: &str| std::fs::read(folder.join(file)).map_err(|error| error.to_string());
    let zone = Document::parse_with(text, &origin(), &mut fetch).map_err(|error| error.to_string())?;
    match judge_loading(&zone).first() {
        Some(finding) => Err(format!("{}: {}", finding.code, finding.message)),
        None => Ok(zone.records().map(line).collect()),
    }
}

/// Without the TTL: servers give one set one TTL, each in its own way.
fn line(record: &Record) -> String {
    format!("{} {} {}", record.owner, record.record_type(), record.data)
}

/// What BIND makes of it.
fn theirs(file: &Path, folder: &Path) -> Result<BTreeSet<String>, String> {
    let program = ["/usr/bin/named-compilezone", "/usr/sbin/named-compilezone"].iter().find(|p| Path::new(p).exists());
    let program = program.expect("named-compilezone is missing; install it: apt-get install bind9-utils");
    // `-i local`: nothing outside the file is looked up.
    let output = Command::new(program)
        .current_dir(folder)
        .args(["-i", "local", "-o", "-", "gullrock.example"])
        .arg(file)
        .output()
        .unwrap();
    if !output.status.success() {
        return Err(String::from_utf8_lossy(&output.stderr).into_owned());
    }
    let zone = Document::parse(output.stdout, &origin()).expect("we read what BIND writes");
    Ok(zone.records().map(line).collect())
}

#[test]
fn zones_are_read_alike() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("part.inc"), PART).unwrap();
    let mut differences = Vec::new();
    let mut refused = 0;
    for (name, text) in ZONES {
        let text = match text.strip_prefix('!') {
            Some(whole) => whole.to_string(),
            None => format!("{HEAD}{text}"),
        };
        // One character of the last zone stands for a byte that is no UTF-8.
        let bytes: Vec<u8> =
            text.chars().flat_map(|c| if c == '\u{e9}' { vec![0xe9] } else { c.to_string().into_bytes() }).collect();
        let file = folder.path().join("zone");
        std::fs::write(&file, &bytes).unwrap();
        match (ours(&bytes, folder.path()), theirs(&file, folder.path())) {
            (Ok(ours), Ok(theirs)) if ours == theirs => {}
            (Err(_), Err(_)) => refused += 1,
            (ours, theirs) => differences.push(format!("{name}:\n  ours: {ours:?}\n  theirs: {theirs:?}")),
        }
    }
    assert!(differences.is_empty(), "{} of {} differ:\n{}", differences.len(), ZONES.len(), differences.join("\n"));
    assert!(ZONES.len() >= 100 && refused >= 35, "{} zones, {refused} refused", ZONES.len());
}

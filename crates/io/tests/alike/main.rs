//! The real `named-checkzone` and `named-compilezone` as judges: our reader accepts what they accept, refuses what
//! they refuse, and takes the same records from it.

#![allow(clippy::unwrap_used)]

mod zones;

use std::collections::BTreeSet;
use std::path::Path;
use std::process::Command;

use brightharbor_core::name::DnsName;
use brightharbor_core::zone::rules::{Surroundings, judge_loading};
use brightharbor_core::zone::{AlterRequest, Alteration, Document, Record, RecordData, RecordType, alter};
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

/// The text of a zone of the list, as bytes.
fn bytes_of(text: &str) -> Vec<u8> {
    let text = match text.strip_prefix('!') {
        Some(whole) => whole.to_string(),
        None => format!("{HEAD}{text}"),
    };
    // One character of the last zone stands for a byte that is no UTF-8.
    text.chars().flat_map(|c| if c == '\u{e9}' { vec![0xe9] } else { c.to_string().into_bytes() }).collect()
}

#[test]
fn zones_are_read_alike() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("part.inc"), PART).unwrap();
    let mut differences = Vec::new();
    let mut refused = 0;
    for (name, text) in ZONES {
        let bytes = bytes_of(text);
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

/// The kinds of edits, on one name: what is asked for, from the records that are there.
fn edits(zone: &Document) -> Vec<AlterRequest> {
    let txt = RecordType::TXT;
    let text = |value: &str| RecordData::Txt([value.as_bytes().to_vec()].into());
    let new = DnsName::parse("edited", zone.origin()).unwrap();
    let add = Alteration::Add { ttl: None, data: vec![text("one; two"), text("three")] };
    let mut all = vec![
        AlterRequest { owner: new, record_type: txt, alteration: add },
        AlterRequest {
            owner: zone.origin().clone(),
            record_type: txt,
            alteration: Alteration::Add { ttl: Some(60), data: vec![text("at the apex")] },
        },
    ];
    // The last record that is no part of what holds the zone together.
    let plain = |record: &&Record| ![RecordType::SOA, RecordType::NS].contains(&record.record_type());
    for record in zone.records().filter(plain).take(1).chain(zone.records().filter(plain).last()) {
        let (owner, record_type) = (record.owner.clone(), record.record_type());
        let data = vec![record.data.clone()];
        all.push(AlterRequest { owner: owner.clone(), record_type, alteration: Alteration::Remove { data } });
        if record_type == txt {
            let alteration = Alteration::Replace { ttl: Some(7200), data: vec![text("other")] };
            all.push(AlterRequest { owner, record_type, alteration });
        }
    }
    all
}

#[test]
fn an_edit_of_an_ugly_zone_changes_for_bind_exactly_what_it_says() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("part.inc"), PART).unwrap();
    let file = folder.path().join("zone");
    let today = jiff::civil::date(2026, 11, 23);
    let mut done = 0;
    for (name, text) in ZONES {
        let bytes = bytes_of(text);
        std::fs::write(&file, &bytes).unwrap();
        let (Ok(_), Ok(before)) = (ours(&bytes, folder.path()), theirs(&file, folder.path())) else { continue };
        let mut fetch = |file: &str| std::fs::read(folder.path().join(file)).map_err(|error| error.to_string());
        let zone = Document::parse_with(bytes, &origin(), &mut fetch).unwrap();
        for request in edits(&zone) {
            // What would break the zone, or stands in an included or generated line, is refused with a reason.
            let Ok(altered) = alter(&zone, &request, &Surroundings::default(), today) else { continue };
            std::fs::write(&file, altered.zone.source()).unwrap();
            let after = theirs(&file, folder.path()).unwrap_or_else(|error| panic!("{name}: {request:?}: {error}"));
            let without_soa = |lines: &BTreeSet<String>| -> BTreeSet<String> {
                lines.iter().filter(|line| !line.contains(" SOA ")).cloned().collect()
            };
            let mut expected = without_soa(&before);
            altered.facts.removed.iter().for_each(|record| assert!(expected.remove(&line(record)), "{name}: {record}"));
            expected.extend(altered.facts.added.iter().map(line));
            assert_eq!(without_soa(&after), expected, "{name}: {request:?}");
            done += 1;
        }
    }
    assert!(done >= 150, "{done} edits");
}

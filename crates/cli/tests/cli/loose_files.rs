//! Master files that no harbor keeps: edited by several at once, with what they have beside their content, in the line ends
//! that they came with; and those that are not to be edited.

use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt, chown};
use std::path::{Path, PathBuf};
use std::process::Command;

use serde_json::Value;

use crate::coast::{Run, brightharbor, run};
use crate::real::nameservers::sign_zone;

const ORIGIN: [&str; 2] = ["--origin", "gullrock.example"];
const ZONE: &str = "$TTL 60\n@ SOA ns1 host 7 4h 30m 4w 5m\n@ NS ns1\nns1 A 192.0.2.1\n";

struct Loose {
    folder: tempfile::TempDir,
}

impl Loose {
    fn with(text: &str) -> Self {
        let loose = Self { folder: tempfile::tempdir().unwrap() };
        fs::write(loose.file(), text).unwrap();
        loose
    }

    fn file(&self) -> PathBuf {
        self.folder.path().join("gullrock.zone")
    }

    fn text(&self) -> String {
        fs::read_to_string(self.file()).unwrap()
    }

    fn record(&self, words: &[&str]) -> Command {
        let mut command = brightharbor();
        command.arg("record").args(words).arg("--file").arg(self.file()).args(ORIGIN);
        command
    }

    fn run(&self, words: &[&str]) -> Run {
        run(&mut self.record(words))
    }
}

#[test]
fn twenty_edits_at_once_keep_twenty_records() {
    let loose = Loose::with(ZONE);
    let running: Vec<_> = (1..=20)
        .map(|number| {
            loose.record(&["add", &format!("berth{number}"), "A", &format!("192.0.2.{number}")]).spawn().unwrap()
        })
        .collect();
    for mut edit in running {
        assert!(edit.wait().unwrap().success());
    }
    let text = loose.text();
    for number in 1..=20 {
        assert!(text.contains(&format!("berth{number}\t60\tIN\tA\t192.0.2.{number}\n")), "{text}");
    }
    assert_eq!(fs::read_dir(loose.folder.path()).unwrap().count(), 1, "nothing is left beside it");
}

#[test]
fn an_edit_leaves_the_file_to_whom_it_belongs_and_its_lines_as_they_end() {
    let loose = Loose::with(&ZONE.replace('\n', "\r\n"));
    fs::set_permissions(loose.file(), fs::Permissions::from_mode(0o664)).unwrap();
    let root = fs::metadata(loose.file()).unwrap().uid() == 0;
    if root {
        chown(loose.file(), Some(4321), Some(1234)).unwrap();
    }
    loose.run(&["add", "www", "A", "192.0.2.2"]).expect(0);
    let text = loose.text();
    assert!(text.ends_with("\r\nwww\t60\tIN\tA\t192.0.2.2\r\n"), "{text:?}");
    assert_eq!(text.matches('\n').count(), text.matches("\r\n").count(), "{text:?}");
    let now = fs::metadata(loose.file()).unwrap();
    assert_eq!(now.mode() & 0o777, 0o664);
    assert!(!root || (now.uid(), now.gid()) == (4321, 1234));
    // A dry run waits for nobody, and writes nothing.
    let before = loose.text();
    loose.run(&["add", "quay", "A", "192.0.2.3", "--dry-run"]).expect(0);
    assert_eq!(loose.text(), before);
}

#[test]
fn the_root_zone_is_edited_too() {
    let loose = Loose::with(
        "$TTL 60\n@ SOA a.root.example. host.example. 7 4h 30m 4w 5m\n@ NS a.root.example.\na.root.example. A 192.0.2.1\n",
    );
    let mut command = brightharbor();
    command.args(["record", "add", "quay.example", "A", "192.0.2.7", "--origin", ".", "--file"]).arg(loose.file());
    run(&mut command).expect(0);
    assert!(loose.text().ends_with("\nquay.example\t60\tIN\tA\t192.0.2.7\n"), "{}", loose.text());
}

#[test]
fn an_alias_of_itself_is_not_entered_and_one_of_a_name_to_come_is() {
    let loose = Loose::with(ZONE);
    assert!(loose.run(&["add", "www", "CNAME", "www"]).expect(4).contains("alias for itself"));
    let text = loose.run(&["add", "www", "CNAME", "shop"]).expect(0);
    assert!(text.contains("alias-to-nothing"), "{text}");
    assert!(loose.run(&["add", "shop", "CNAME", "www"]).expect(4).contains("alias-circle"));
}

#[test]
fn findings_name_the_line_that_they_are_about() {
    let loose = Loose::with(&format!("{ZONE}\nwww CNAME gone\nshop MX 10 mail.crumbandtide.com\n"));
    let check = || {
        let mut command = brightharbor();
        command.args(["zone", "check", "--file"]).arg(loose.file()).args(ORIGIN);
        command
    };
    let text = run(&mut check()).expect(0);
    assert!(text.contains("line 6: www.gullrock.example is an alias for gone.gullrock.example"), "{text}");
    assert!(
        text.contains("line 7: the MX record of shop.gullrock.example") && text.contains("(dot-forgotten)"),
        "{text}"
    );
    let document: Value = serde_json::from_str(&run(check().arg("--json")).stdout).unwrap();
    let finding =
        document["findings"].as_array().unwrap().iter().find(|one| one["code"] == "alias-to-nothing").unwrap();
    assert_eq!((&finding["line"], &finding["column"]), (&6.into(), &1.into()), "{finding}");
    // What a server would refuse is told with its place, as the server does.
    fs::write(loose.file(), format!("{ZONE}bad_name A 192.0.2.2\n")).unwrap();
    let refused = run(brightharbor().args(["zone", "print"]).arg(loose.file()).args(ORIGIN)).expect(1);
    assert!(refused.contains("gullrock.zone:5:1: bad_name.gullrock.example has an A record"), "{refused}");
}

#[test]
fn a_journal_beside_the_file_is_told() {
    let loose = Loose::with(ZONE);
    fs::write(loose.folder.path().join("gullrock.zone.jnl"), "").unwrap();
    let text = loose.run(&["add", "www", "A", "192.0.2.2"]).expect(0);
    assert!(text.contains("gullrock.zone.jnl lies beside it") && text.contains("rndc freeze"), "{text}");
    let without = Loose::with(ZONE);
    assert!(!without.run(&["add", "www", "A", "192.0.2.2"]).expect(0).contains(".jnl"));
}

#[test]
fn a_zone_that_is_signed_in_its_file_is_listed_without_its_signatures_and_not_edited() {
    let loose = Loose::with(ZONE);
    sign_zone(loose.folder.path(), "gullrock.zone", "gullrock.example", "ECDSAP256SHA256", &[]);
    let before = loose.text();
    let refused = run(loose.record(&["add", "www", "A", "192.0.2.2"]).arg("--json"));
    let refused: Value = serde_json::from_str(&refused.stdout).unwrap();
    assert_eq!((&refused["exit"], &refused["error"]["code"]), (&4.into(), &"zone-signed".into()), "{refused}");
    assert!(refused["error"]["advice"].as_str().unwrap().contains("sign it again"), "{refused}");
    assert_eq!(loose.text(), before);
    let listed = loose.run(&["list"]).expect(0);
    assert!(listed.starts_with("gullrock.example: 3 records") && listed.contains("which --all lists"), "{listed}");
    assert!(!listed.contains("RRSIG") && loose.run(&["list", "--all"]).expect(0).contains("RRSIG"));
    // What a signer makes is not found fault with.
    let checked = run(brightharbor().args(["zone", "check", "--json", "--file"]).arg(loose.file()).args(ORIGIN));
    let checked: Value = serde_json::from_str(&checked.stdout).unwrap_or_else(|error| panic!("{error}: {checked:?}"));
    let codes: Vec<&str> =
        checked["findings"].as_array().unwrap().iter().map(|one| one["code"].as_str().unwrap()).collect();
    let unsigned = Loose::with(ZONE);
    let plain = run(brightharbor().args(["zone", "check", "--json", "--file"]).arg(unsigned.file()).args(ORIGIN));
    let plain: Value = serde_json::from_str(&plain.stdout).unwrap();
    assert_eq!(codes.len(), plain["findings"].as_array().unwrap().len(), "{checked:#}");
    assert!(Path::new(&loose.file()).exists());
}

//! What is told beside the result: what may have been meant by an unknown name, steps and notes on stderr, and how they reach
//! the journal.

use std::fs::{self, File};
use std::os::unix::fs::MetadataExt;

use crate::coast::Coast;

#[test]
fn a_slip_in_a_name_is_seen_through() {
    let coast = Coast::with_bakery();
    let slip = |words: &[&str], exit: i32, meant: &str| {
        let refused = coast.json(words, exit);
        assert_eq!(refused["error"]["suggested"], meant, "{refused}");
        let told = coast.run(words).expect(exit);
        assert!(told.contains(&format!("if `{meant}` was meant, give that; or ")), "{told}");
    };
    slip(&["site", "show", "crumbandtied.example"], 4, "crumbandtide.example");
    slip(&["account", "show", "bakry"], 4, "bakery");
    slip(&["attach", "shop.crumbandtide.example", "--account", "bkery"], 4, "bakery");
    slip(&["zone", "check", "crumbandtide.exampel"], 4, "crumbandtide.example");
    slip(&["explain", "glue-mising"], 2, "glue-missing");
    let refused = coast.json(&["site", "show", "lanternchoir.example"], 4);
    assert!(refused["error"]["suggested"].is_null(), "{refused}");
    // Words of the command itself, as the parser has it.
    let typed = coast.json(&["sites", "list"], 2);
    assert_eq!(typed["error"]["suggested"][0], "site", "{typed}");
}

#[test]
fn steps_are_told_when_asked_for_and_notes_unless_unwanted() {
    let coast = Coast::with_bakery();
    let change = |more: &[&str], index: &str| {
        let words = ["site", "change", "crumbandtide.example", "--index", index];
        let run = coast.run(&[&words[..], more].concat());
        assert_eq!(run.exit, 0, "{run:?}");
        run.stderr
    };
    assert_eq!(change(&[], "one.html"), "");
    let told = change(&["-v"], "two.html");
    for step in ["writing files (1)\n", "the web server tests its configuration\n", "the web server reloads\n"] {
        assert!(told.contains(step), "{told}");
    }
    assert_eq!(change(&["--quiet"], "three.html"), "");
    let both = coast.run(&["site", "list", "-q", "-v"]);
    assert_eq!(both.exit, 2, "{both:?}");

    // Errors are no notes.
    let refused = coast.run(&["-q", "site", "show", "quay.example"]);
    assert!(refused.stderr.starts_with("error: quay.example is not attached\n"), "{refused:?}");
}

#[test]
fn lines_have_their_level_where_the_journal_reads_them() {
    let coast = Coast::with_bakery();
    let path = coast.path("stream");
    let run = |stream: &str, words: &[&str]| {
        let file = File::create(&path).unwrap();
        let stream = match stream {
            "own" => format!("{}:{}", file.metadata().unwrap().dev(), file.metadata().unwrap().ino()),
            other => other.to_string(),
        };
        let status = coast.command(words).env("JOURNAL_STREAM", stream).stderr(file).status().unwrap();
        (status.code(), fs::read_to_string(&path).unwrap())
    };
    let change = |index| ["-v", "site", "change", "crumbandtide.example", "--index", index];
    let (code, told) = run("own", &change("one.html"));
    assert_eq!(code, Some(0));
    assert!(!told.is_empty() && told.lines().all(|line| line.starts_with("<6>")), "{told}");
    let (code, told) = run("own", &["site", "show", "quay.example"]);
    assert_eq!(code, Some(4));
    let lines: Vec<&str> = told.lines().collect();
    assert!(lines.len() >= 2 && lines.iter().all(|line| line.starts_with("<3>")), "{told}");
    // The variable stays when stderr goes elsewhere.
    let (_, told) = run("8:1", &["site", "show", "quay.example"]);
    assert!(told.starts_with("error: "), "{told}");
}

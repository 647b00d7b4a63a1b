//! The demo goes as told, quickly, and can be gone on with from another terminal.

use std::io::{BufRead, BufReader};
use std::process::Stdio;
use std::time::{Duration, Instant};

use crate::coast::{brightharbor, run};

#[test]
fn it_goes_as_told_in_15_seconds() {
    let started = Instant::now();
    let text = run(brightharbor().arg("demo")).expect(0);
    assert!(started.elapsed() < Duration::from_secs(15), "{:?}", started.elapsed());
    assert!(text.contains("Every step ended as expected") && text.contains("a chain of 2 certificates, verified"));
}

#[test]
fn kept_it_can_be_gone_on_with_and_ends_with_ctrl_c() {
    let mut demo =
        brightharbor().args(["demo", "--keep"]).stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap();
    let mut harbor = None;
    let mut command = None;
    // It is read no further than needed: a program must not fall over because nobody reads its notes.
    for line in BufReader::new(demo.stderr.take().unwrap()).lines() {
        let line = line.unwrap();
        if let Some(path) = line.strip_prefix("export BRIGHTHARBOR=") {
            harbor = Some(path.to_string());
        } else if harbor.is_some() {
            command = Some(line);
            break;
        }
    }
    let (harbor, command) = (harbor.unwrap(), command.unwrap());
    let arguments: Vec<&str> = command.split(' ').skip(1).collect();
    assert_eq!(arguments, ["survey", "gullrock.example"]);
    let text = run(brightharbor().args(arguments).env("BRIGHTHARBOR", &harbor)).expect(1);
    // The old host has no https: that is what a visitor finds.
    assert!(text.contains("ns1.oldquay.example") && text.contains("stops at `secure`"), "{text}");
    let interrupt = std::process::Command::new("kill").arg("-INT").arg(demo.id().to_string()).status().unwrap();
    assert!(interrupt.success());
    let status = demo.wait().unwrap();
    assert!(status.success(), "{status}");
    assert!(!std::path::Path::new(&harbor).exists(), "the demo clears up");
}

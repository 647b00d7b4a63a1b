//! The links of many hostnames by one command, as a nightly job asks for them.

use std::io::Write;
use std::process::Stdio;

use serde_json::json;

use crate::coast::Coast;

#[test]
fn a_summary_comes_first_and_the_exit_code_follows_the_worst() {
    let coast = Coast::new();
    coast.run(&["account", "add", "choir", "--email", "choir@saltmarsh.example"]).expect(0);
    coast.run(&["attach", "crumbandtide.example", "--account", "bakery", "--www", "none"]).expect(3);
    coast.run(&["attach", "lanternchoir.example", "--account", "choir"]).expect(3);
    let all = coast.json(&["survey", "--all"], 3);
    assert_eq!(all["reasons"], json!({ "nameservers-not-as-expected": 3 }), "{all}");
    let names: Vec<&str> =
        all["surveys"].as_array().unwrap().iter().map(|one| one["hostname"].as_str().unwrap()).collect();
    assert_eq!(names, ["crumbandtide.example", "lanternchoir.example", "www.lanternchoir.example"]);
    let text = coast.run(&["survey", "--account", "choir"]).expect(3);
    let summary = "2 hostnames: all stop somewhere 2 nameservers-not-as-expected hostname stops at reason next lantern";
    assert!(text.starts_with(summary), "{text}");
    assert!(text.contains("www.lanternchoir.example") && !text.contains("crumbandtide"), "{text}");
    coast.delegate_here("crumbandtide.example");
    // The resolver has the old answer for five seconds.
    let deadline = std::time::Instant::now() + std::time::Duration::from_secs(20);
    let of_bakery = loop {
        coast.run(&["tend"]);
        let seen = coast.run(&["survey", "--account", "bakery"]);
        if seen.exit == 0 || std::time::Instant::now() > deadline {
            break seen;
        }
        std::thread::sleep(std::time::Duration::from_millis(500));
    };
    assert!(of_bakery.stdout.starts_with("1 hostname: all six links of each hold"), "{of_bakery:?}");
    assert_eq!(of_bakery.exit, 0);
    assert_eq!(coast.json(&["survey", "--account", "nobody"], 4)["error"]["code"], "unknown-account");
}

#[test]
fn a_list_comes_from_a_file_or_from_standard_input() {
    let coast = Coast::new();
    let list = coast.harbor().join("list.txt");
    std::fs::write(&list, "# customers\ncrumbandtide.example  # the bakery\n\ncrumbandtide.example\n").unwrap();
    let named = coast.json(&["survey", "--from-file", list.to_str().unwrap()], 1);
    assert_eq!(named["surveys"].as_array().unwrap().len(), 1, "each once: {named}");
    std::fs::write(&list, "crumbandtide.example\nno name\n").unwrap();
    let wrong = coast.json(&["survey", "--from-file", list.to_str().unwrap()], 2);
    assert!(wrong["error"]["message"].as_str().unwrap().contains("list.txt:2"), "{wrong}");
    let mut piped = coast.command(&["survey", "--from-file", "-", "--json"]);
    let mut child = piped.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(b"gullrock.example\n").unwrap();
    let done = child.wait_with_output().unwrap();
    let text = String::from_utf8(done.stdout).unwrap();
    assert!(text.contains("\"hostname\": \"gullrock.example\""), "{text}");
}

//! Bad input and servers that fail: a clear message with what to do, the right exit code, nothing half done.

use crate::coast::{Coast, brightharbor, run, snapshot};

#[test]
fn names_that_are_none_are_refused_with_what_was_meant() {
    let coast = Coast::new();
    let before = snapshot(&coast.harbor());
    let long = format!("{}.example", "a".repeat(64));
    let longer = format!("{}example", "ab.".repeat(90));
    let cases = [
        ("crumb andtide.example", "has a blank inside", "crumbandtide.example"),
        ("crumb..example", "has an empty label", "single dots"),
        (long.as_str(), "has 64 characters", "1 to 63"),
        (longer.as_str(), "253 are allowed", "1 to 63"),
        ("crumbandtide.example.crumbandtide.example", "repeats its domain", "give `crumbandtide.example`"),
        ("192.0.2.7", "is an address", "labels are"),
        ("bakery", "single label", "labels are"),
        ("crumb;tide.example", "`;` is not allowed", "labels are"),
        ("", "is empty", "labels are"),
    ];
    for (typed, what, next) in cases {
        let text = coast.run(&["attach", typed, "--account", "bakery"]).expect(2);
        assert!(text.contains(what) && text.contains(next), "{typed}: {text}");
    }
    let suffix = coast.run(&["attach", "co.uk", "--account", "bakery"]).expect(4);
    assert!(suffix.contains("is a public suffix") && suffix.contains("bakery.co.uk"), "{suffix}");
    assert_eq!(before, snapshot(&coast.harbor()));
}

#[test]
fn names_that_are_taken_say_as_what_and_by_whom() {
    let coast = Coast::new();
    coast.run(&["account", "add", "choir", "--email", "choir@saltmarsh.example"]).expect(0);
    coast.run(&["attach", "crumbandtide.example", "--account", "bakery"]).expect(3);
    let before = snapshot(&coast.harbor());
    let taken = coast.run(&["attach", "www.crumbandtide.example", "--account", "choir"]).expect(4);
    assert!(taken.contains("addon domain of account bakery"), "{taken}");
    let below = coast.run(&["attach", "choir.crumbandtide.example", "--account", "choir"]).expect(4);
    assert!(below.contains("which belongs to account bakery"), "{below}");
    let unknown = coast.run(&["attach", "gullrock.example", "--account", "nobody"]).expect(4);
    assert!(unknown.contains("account `nobody` not found") && unknown.contains("account add nobody"), "{unknown}");
    let again = coast.run(&["account", "add", "choir", "--email", "choir@saltmarsh.example"]).expect(4);
    assert!(again.contains("already"), "{again}");
    assert_eq!(before, snapshot(&coast.harbor()));
}

#[test]
fn a_harbor_that_is_not_there_or_misspelt_is_told() {
    let coast = Coast::empty();
    for arguments in [&["site", "list"][..], &["attach", "a.example", "--account", "b"], &["tend"], &["logbook"]] {
        let text = coast.run(arguments).expect(2);
        assert!(text.contains("no harbor at") && text.contains("brightharbor init"), "{text}");
    }
    let coast = Coast::new();
    let again = coast.run(&["init"]).expect(4);
    assert!(again.contains("already exists"), "{again}");
    let settings = coast.harbor().join("harbor.toml");
    let text = std::fs::read_to_string(&settings).unwrap();
    std::fs::write(&settings, text.replace("resolvers", "resolver")).unwrap();
    let misspelt = coast.run(&["site", "list"]).expect(2);
    assert!(misspelt.contains("harbor.toml:") && misspelt.contains("unknown field `resolver`"), "{misspelt}");
}

#[test]
fn wrong_arguments_end_with_2() {
    assert_eq!(run(brightharbor().arg("atach")).exit, 2);
    assert_eq!(run(brightharbor().args(["attach", "a.example"])).exit, 2);
    assert_eq!(run(brightharbor().args(["delegation", "check", "a.example", "--root-server", "ns1"])).exit, 2);
    assert_eq!(run(brightharbor().args(["explain", "no-such-code"])).exit, 2);
}

#[test]
fn a_web_server_that_refuses_its_test_puts_everything_back() {
    let coast = Coast::new();
    coast.run(&["attach", "crumbandtide.example", "--account", "bakery"]).expect(3);
    let broken = coast.harbor().join("servers/plain/broken.json");
    std::fs::write(&broken, "{ not json").unwrap();
    let before = (snapshot(&coast.harbor()), snapshot(&coast.path("homes")));
    let text = coast.run(&["attach", "gullrock.example", "--account", "bakery"]).expect(5);
    assert!(text.contains("broken.json") && text.contains("everything was rolled back"), "{text}");
    assert_eq!(before, (snapshot(&coast.harbor()), snapshot(&coast.path("homes"))));
    assert!(coast.run(&["site", "list"]).expect(0).contains("crumbandtide.example"));
    let logbook = coast.json(&["logbook"], 0);
    assert_eq!(logbook["entries"][0]["outcome"], "rolled back");
    std::fs::remove_file(broken).unwrap();
    coast.run(&["attach", "gullrock.example", "--account", "bakery"]).expect(3);
}

#[test]
fn a_ca_that_refuses_is_told_and_the_site_stays_as_it_was() {
    let coast = Coast::new();
    coast.run(&["attach", "crumbandtide.example", "--account", "bakery"]).expect(3);
    coast.delegate_here("crumbandtide.example");
    coast.run(&["tend"]).expect(0);
    let attached = coast.json(&["attach", "refused.crumbandtide.example", "--account", "bakery"], 3);
    assert_eq!(attached["certificate"]["outcome"], "refused");
    let reason = attached["certificate"]["reason"].as_str().unwrap();
    assert!(reason.contains("does not issue for refused.crumbandtide.example"), "{reason}");
    let text = coast.run(&["certificate", "issue", "refused.crumbandtide.example"]).expect(4);
    assert!(text.contains("rejectedIdentifier") && text.contains("tend"), "{text}");
    // CAs count failures: the timer leaves it alone for a while, and says what tries at once.
    let later = coast.run(&["tend"]).expect(3);
    assert!(
        later.contains("later, not before") && later.contains("at once: brightharbor certificate issue"),
        "{later}"
    );
    let survey = coast.run(&["survey", "refused.crumbandtide.example"]).expect(3);
    assert!(survey.contains("answers holds") && survey.contains("rejectedIdentifier"), "{survey}");
}

#[test]
fn a_ca_that_cannot_be_reached_or_is_not_trusted_is_told() {
    let coast = Coast::new();
    coast.run(&["attach", "crumbandtide.example", "--account", "bakery"]).expect(3);
    coast.delegate_here("crumbandtide.example");
    let path = coast.harbor().join("harbor.toml");
    let settings = std::fs::read_to_string(&path).unwrap();
    let line = settings.lines().find(|line| line.starts_with("directory")).unwrap().to_string();
    std::fs::write(&path, settings.replace(&line, "directory = \"https://127.0.0.1:9/directory\"")).unwrap();
    let text = coast.run(&["certificate", "issue", "crumbandtide.example"]).expect(4);
    assert!(text.contains("127.0.0.1:9 connection refused"), "{text}");
    std::fs::write(&path, settings.replace(&line, &line.replace("https:", "http:"))).unwrap();
    let text = coast.run(&["certificate", "issue", "crumbandtide.example"]).expect(4);
    assert!(text.contains("is not https"), "{text}");
    std::fs::write(&path, settings.replace("terms-accepted = true", "terms-accepted = false")).unwrap();
    let text = coast.run(&["certificate", "issue", "crumbandtide.example"]).expect(4);
    assert!(text.contains("terms of service must be accepted") && text.contains("terms-accepted"), "{text}");
}

#[test]
fn a_link_planted_in_a_home_leads_nowhere_and_is_told() {
    let coast = Coast::new();
    let outside = coast.path("outside");
    std::fs::create_dir(&outside).unwrap();
    std::os::unix::fs::symlink(&outside, coast.path("homes/bakery/www")).unwrap();
    let before = snapshot(&coast.harbor());
    let text = coast.run(&["attach", "crumbandtide.example", "--account", "bakery"]).expect(5);
    assert!(text.contains("is a symbolic link"), "{text}");
    assert_eq!(std::fs::read_dir(&outside).unwrap().count(), 0);
    assert_eq!(before, snapshot(&coast.harbor()));
}

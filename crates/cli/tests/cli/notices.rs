//! Whoever is told what changes (`[notify]`) is told once, and again when it is over; and what goes wrong with it harms nothing.

use std::fs;

use brightharbor_core::certificate::{Certificate, CertificateSource};
use brightharbor_core::name::Host;
use jiff::{SignedDuration, Timestamp};
use serde_json::{Value, json};

use crate::coast::{Coast, run};

/// Each notice is put behind the others in a file.
fn notify_by(coast: &Coast, command: &str) {
    remind(coast, command, 7);
}

/// The same with a reminder after so many days.
fn remind(coast: &Coast, command: &str, days: u16) {
    let toml = coast.harbor().join("harbor.toml");
    let text = fs::read_to_string(&toml).unwrap();
    let before = text.split("\n[notify]").next().unwrap();
    fs::write(&toml, format!("{before}\n[notify]\ncommand = [\"sh\", \"-c\", '{command}']\nreminder-days = {days}\n"))
        .unwrap();
}

fn told(coast: &Coast) -> Vec<Value> {
    let file = coast.path("told");
    let text = fs::read_to_string(&file).unwrap_or_default();
    let _ = fs::remove_file(file);
    text.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
}

fn of<'v>(notices: &'v [Value], member: &str) -> Vec<&'v str> {
    notices.iter().map(|notice| notice[member].as_str().unwrap()).collect()
}

#[test]
fn names_that_stop_to_work_are_told_once_and_once_more_when_they_work_again() {
    let coast = Coast::with_bakery();
    let refused = coast.json(&["survey", "--all", "--notify"], 4);
    assert_eq!(refused["error"]["code"], "nobody-to-tell", "{refused}");
    notify_by(&coast, &format!("cat >> {}", coast.path("told").display()));
    let survey = |exit: i32| coast.json(&["survey", "--all", "--notify"], exit)["notified"].clone();
    let nothing = json!({ "told": 0, "left": 0, "problem": null });
    assert_eq!((survey(0), told(&coast)), (nothing.clone(), vec![]));

    let delegate = |names: &[&str]| coast.world.registrar.set_nameservers("crumbandtide.example", names).unwrap();
    delegate(&["ns1.oldquay.example", "ns2.oldquay.example"]);
    assert_eq!(survey(3)["told"], 2);
    let notices = told(&coast);
    assert_eq!(of(&notices, "subject"), ["crumbandtide.example", "www.crumbandtide.example"]);
    assert_eq!((of(&notices, "topic"), of(&notices, "turn")), (vec!["delegation-broken"; 2], vec!["begins"; 2]));
    assert_eq!((&notices[0]["account"], &notices[0]["format"]), (&json!("bakery"), &json!(1)));
    assert!(notices[0]["email"].as_str().unwrap().contains('@') && notices[0]["code"].is_string(), "{notices:?}");
    assert_eq!((survey(3), told(&coast)), (nothing.clone(), vec![]), "once");
    // What goes on is told again after the days that were set.
    let into_file = format!("cat >> {}", coast.path("told").display());
    remind(&coast, &into_file, 0);
    assert_eq!(survey(3)["told"], 2);
    assert_eq!(of(&told(&coast), "turn"), ["goes-on"; 2]);
    notify_by(&coast, &into_file);
    // Another part of the harbor says nothing about this one.
    coast.run(&["survey", "quay.example", "--notify"]);
    assert_eq!(told(&coast).iter().filter(|notice| notice["turn"] == "ends").count(), 0);

    // Nobody listens: the survey says the same as ever, and the next run catches up.
    coast.delegate_here("crumbandtide.example");
    notify_by(&coast, "echo out of order >&2; exit 3");
    let failed = survey(0);
    assert_eq!((&failed["told"], &failed["left"]), (&json!(0), &json!(2)));
    assert!(failed["problem"].as_str().unwrap().contains("out of order"), "{failed}");
    assert!(coast.run(&["survey", "--all", "--notify"]).expect(0).contains("2 notices not told"));
    notify_by(&coast, &format!("cat >> {}", coast.path("told").display()));
    assert_eq!(survey(0)["told"], 2);
    let notices = told(&coast);
    assert_eq!(of(&notices, "turn"), ["ends"; 2]);
    assert!(of(&notices, "since")[0] <= of(&notices, "at")[0] && notices[0]["account"] == "bakery", "{notices:?}");
    assert_eq!((survey(0), told(&coast)), (nothing, vec![]));
}

#[test]
fn certificates_that_somebody_has_to_look_after_are_told_by_the_timer() {
    let coast = Coast::with_bakery();
    notify_by(&coast, &format!("cat >> {}", coast.path("told").display()));
    coast.run(&["tend"]).expect(0);
    assert_eq!(told(&coast), Vec::<Value>::new());
    let soon = Timestamp::now() + SignedDuration::from_hours(24);
    let (source, not_before) = (CertificateSource::Imported, soon - SignedDuration::from_hours(24 * 90));
    let bought = |not_after| move |present| Certificate { source, not_before, not_after, ..present };
    coast.record_certificate("crumbandtide.example", bought(soon));
    assert_eq!(coast.json(&["tend"], 3)["notified"]["told"], 1);
    let notices = told(&coast);
    assert_eq!((&notices[0]["topic"], &notices[0]["turn"]), (&json!("certificate-ending"), &json!("begins")));
    assert_eq!((&notices[0]["subject"], &notices[0]["account"]), (&json!("crumbandtide.example"), &json!("bakery")));
    coast.run(&["tend"]).expect(3);
    assert_eq!(told(&coast), Vec::<Value>::new(), "once");
    // Over is another thing, and what it was before has ended.
    coast.record_certificate("crumbandtide.example", bought(Timestamp::now() - SignedDuration::from_hours(1)));
    coast.run(&["tend"]).expect(1);
    let notices = told(&coast);
    assert_eq!(of(&notices, "topic"), ["certificate-expired", "certificate-ending"], "{notices:?}");
    assert_eq!(of(&notices, "turn"), ["begins", "ends"]);
    // One of the CA's that is due is renewed, and that is told.
    let due = |present| Certificate { source: CertificateSource::Ca, not_after: Timestamp::now(), ..present };
    coast.record_certificate("crumbandtide.example", due);
    coast.run(&["tend"]).expect(0);
    let notices = told(&coast);
    assert_eq!(of(&notices, "topic"), ["certificate-renewed", "certificate-expired"], "{notices:?}");
    assert_eq!(of(&notices, "turn"), ["happened", "ends"]);
}

#[test]
fn a_certificate_that_cannot_be_had_is_told_until_it_is_there() {
    let coast = Coast::with_bakery();
    notify_by(&coast, &format!("cat >> {}", coast.path("told").display()));
    let toml = coast.harbor().join("harbor.toml");
    let settings = fs::read_to_string(&toml).unwrap();
    let directory = settings.lines().find(|line| line.starts_with("directory = ")).unwrap();
    fs::write(&toml, settings.replace(directory, "directory = \"https://127.0.0.1:1/directory\"")).unwrap();
    let after = |days: i64| Timestamp::now() + SignedDuration::from_hours(24 * days);
    let due = |present| Certificate { not_before: after(-88), not_after: after(2), ..present };
    coast.record_certificate("crumbandtide.example", due);
    assert_ne!(coast.run(&["tend"]).exit, 0);
    let notices = told(&coast);
    let failing = notices.iter().find(|notice| notice["topic"] == "certificate-failing").unwrap();
    assert_eq!((&failing["turn"], &failing["code"]), (&json!("begins"), &json!("ca-silent")), "{notices:?}");
    // While it waits for its next turn, nothing has changed.
    assert_ne!(coast.run(&["tend"]).exit, 0);
    assert_eq!(told(&coast), Vec::<Value>::new());
    fs::write(&toml, settings).unwrap();
    coast.run(&["certificate", "renew", "crumbandtide.example"]).expect(0);
    coast.run(&["tend"]).expect(0);
    let notices = told(&coast);
    let ended = notices.iter().any(|one| one["topic"] == "certificate-failing" && one["turn"] == "ends");
    assert!(ended, "{notices:?}");
}

#[test]
fn a_zone_that_a_server_lacks_is_told_until_the_server_has_it() {
    let coast = Coast::with_bakery();
    let refused = coast.json(&["zone", "list", "--notify"], 4);
    assert_eq!(refused["error"]["code"], "nobody-to-tell", "{refused}");
    notify_by(&coast, &format!("cat >> {}", coast.path("told").display()));
    let list = |exit: i32| coast.json(&["zone", "list", "--notify"], exit)["notified"]["told"].clone();
    assert_eq!((list(0), told(&coast)), (json!(0), vec![]));
    // Edited past the server: it has an older serial.
    let file = coast.harbor().join("zones").join("crumbandtide.example.zone");
    let text = fs::read_to_string(&file).unwrap();
    let serial = coast.json(&["zone", "list"], 0)["zones"][0]["serial"].as_u64().unwrap();
    fs::write(&file, text.replace(&serial.to_string(), &(serial + 5).to_string())).unwrap();
    let started = std::time::Instant::now();
    assert_eq!(list(3), json!(1));
    assert!(started.elapsed().as_secs() >= 5, "it is asked twice");
    let notices = told(&coast);
    assert_eq!((of(&notices, "topic"), of(&notices, "turn")), (vec!["zone-behind"], vec!["begins"]));
    assert_eq!((&notices[0]["subject"], &notices[0]["account"]), (&json!("crumbandtide.example"), &json!("bakery")));
    assert!(notices[0]["reason"].as_str().unwrap().contains(&format!("{serial} (behind)")), "{notices:?}");
    // The timer asks no server for serials, so that it knows of no end.
    coast.run(&["tend"]);
    assert_eq!(told(&coast), Vec::<Value>::new());
    coast.run(&["zone", "load", "crumbandtide.example"]).expect(0);
    assert_eq!(list(0), json!(1));
    assert_eq!(of(&told(&coast), "turn"), ["ends"]);
}

#[test]
fn one_run_tells_of_two_hundred_changes_and_the_next_goes_on() {
    let coast = Coast::with_bakery();
    notify_by(&coast, &format!("cat >> {}", coast.path("told").display()));
    let over = Timestamp::now() - SignedDuration::from_hours(1);
    let site = |at: usize| format!("boat{at}.crumbandtide.example");
    let names: Vec<String> = (0..205).map(site).collect();
    let mut attach = vec!["attach", "--account", "bakery", "--www", "none"];
    attach.extend(names.iter().map(String::as_str));
    coast.run(&attach);
    coast.record_certificates_like("crumbandtide.example", |present| {
        let bought = |name: &String| Certificate {
            site: Host::parse(name).unwrap(),
            source: CertificateSource::Imported,
            not_before: over - SignedDuration::from_hours(24),
            not_after: over,
            ..present.clone()
        };
        names.iter().map(bought).collect()
    });
    let notified = coast.json(&["tend"], 1)["notified"].clone();
    assert_eq!((&notified["told"], told(&coast).len()), (&json!(200), 200), "{notified}");
    assert!(notified["left"].as_u64().unwrap() >= 5, "{notified}");
    assert_eq!(coast.json(&["tend"], 1)["notified"]["left"], 0);
    assert!(told(&coast).len() >= 5);
}

/// Each sample of a file of metrics, without what stands around them.
fn samples(coast: &Coast) -> Vec<String> {
    let file = coast.path("metrics");
    let text = fs::read_to_string(&file).unwrap();
    fs::remove_file(file).unwrap();
    text.lines().filter(|line| !line.starts_with('#')).map(String::from).collect()
}

#[test]
fn a_collector_reads_links_zones_and_the_last_run_of_the_timer() {
    let coast = Coast::with_bakery();
    let file = coast.path("metrics").display().to_string();
    coast.run(&["survey", "--all", "--metrics", &file]).expect(0);
    let written = samples(&coast);
    assert!(written.contains(&"brightharbor_links{link=\"delegated\",state=\"holds\"} 2".to_string()), "{written:?}");
    assert!(!written.iter().any(|line| line.starts_with("brightharbor_hostname_stops")), "{written:?}");
    // A name alone is a file in the current folder.
    let mut here = coast.command(&["zone", "list", "--metrics", "metrics"]);
    run(here.current_dir(coast.path(""))).expect(0);
    let written = samples(&coast);
    let behind = |line: &&String| line.starts_with("brightharbor_zone_behind{zone=\"crumbandtide.example\",server=\"");
    assert!(written.iter().find(behind).is_some_and(|line| line.ends_with(" 0")), "{written:?}");
    coast.run(&["tend", "--metrics", &file]).expect(0);
    let written = samples(&coast);
    assert!(written.contains(&"brightharbor_tend_exit 0".to_string()), "{written:?}");
    // What was done is reported even where the file cannot be written.
    let failed = coast.json(&["tend", "--metrics", "/no/such/folder/metrics"], 1);
    assert!(failed["metrics_failed"].as_str().unwrap().contains("/no/such/folder") && failed["tried"].is_array());
    let ended = written.iter().find_map(|line| line.strip_prefix("brightharbor_tend_ended_seconds ")).unwrap();
    assert!((Timestamp::now().as_second() - ended.parse::<i64>().unwrap()).abs() < 60, "{ended}");

    let gone = ["ns1.oldquay.example", "ns2.oldquay.example"];
    coast.world.registrar.set_nameservers("crumbandtide.example", &gone).unwrap();
    coast.run(&["survey", "--all", "--metrics", &file]).expect(3);
    let stops = "brightharbor_hostname_stops{hostname=\"www.crumbandtide.example\",link=\"delegated\",\
                 code=\"nameservers-not-as-expected\"} 1";
    let written = samples(&coast);
    assert!(written.contains(&stops.to_string()), "{written:?}");
    // No file that the collector could read half written.
    let left: Vec<_> = fs::read_dir(coast.path("")).unwrap().map(|file| file.unwrap().file_name()).collect();
    assert!(!left.iter().any(|name| name.to_string_lossy().contains("metrics")), "{left:?}");
}

//! Nameserver sets, what is handed over to the registrar, and waiting for it.

use std::fs;

use serde_json::{Value, json};

use crate::coast::Coast;

fn codes(checked: &Value) -> Vec<&str> {
    let findings = checked["domains"][0]["findings"].as_array().unwrap();
    findings.iter().map(|finding| finding["code"].as_str().unwrap()).collect()
}

#[test]
fn a_set_with_names_of_the_customers_own() {
    let coast = Coast::with_bakery();
    let zone = || fs::read_to_string(coast.harbor().join("zones/crumbandtide.example.zone")).unwrap();
    let add = |more: &[&str]| coast.run(&[&["nameserver", "add", "tide"], more].concat());
    assert!(add(&["ns1.crumbandtide.example"]).expect(4).contains("needs an address"));
    assert!(add(&["ns1"]).expect(2).contains("not a nameserver name"));
    let members = ["ns1.crumbandtide.example=192.0.2.53", "ns2.crumbandtide.example=192.0.2.54"];
    let made = add(&[&members[..], &["--account", "bakery", "--capacity", "1"]].concat()).expect(0);
    assert!(made.contains("All nameservers are in one network") && made.contains("register the host ns1"), "{made}");
    assert!(zone().contains("\nns1\t") && zone().contains("192.0.2.54"), "{}", zone());
    assert!(add(&["ns.saltmarsh.example"]).expect(4).contains("already"));

    let listed = coast.json(&["nameserver", "list"], 0);
    assert_eq!((&listed["sets"][0]["name"], &listed["sets"][1]["capacity"]), (&json!("host"), &json!(1)));
    assert_eq!(coast.json(&["nameserver", "show", "host"], 0)["set"]["zones"], json!(["crumbandtide.example"]));
    coast.run(&["zone", "move", "crumbandtide.example", "--to", "tide"]).expect(3);
    assert!(coast.run(&["nameserver", "remove", "tide"]).expect(4).contains("used by 1 zone"));
    // The registrar still has the provider's names: they were not to be seen.
    let checked = coast.json(&["delegation", "check", "crumbandtide.example"], 1);
    for code in ["nameservers-not-as-expected", "provider-names-visible", "nameserver-set-full"] {
        assert!(codes(&checked).contains(&code), "{checked}");
    }
    assert_eq!(coast.json(&["nameserver", "check", "tide"], 1)["nameservers"][0]["holds"], false);
    coast.json(&["nameserver", "check", "host"], 0);

    let handed = coast.json(&["delegation", "handover", "crumbandtide.example"], 3);
    let first = json!({ "name": "ns1.crumbandtide.example", "addresses": ["192.0.2.53"], "present": [] });
    assert_eq!((&handed["hosts"][0], handed["hosts"].as_array().unwrap().len()), (&first, 2));
    assert_eq!(handed["nameservers"][1], "ns2.crumbandtide.example");

    // It moves: nobody answers at the new address yet.
    let moved = ["nameserver", "change", "tide", "ns1.crumbandtide.example=198.51.100.53"];
    let dry = coast.run(&[&moved[..], &["--dry-run"]].concat()).expect(4);
    assert!(dry.contains("must keep answering until") && dry.contains("registrar of crumbandtide.example"), "{dry}");
    assert!(
        coast
            .run(&["nameserver", "change", "tide", "ns3.crumbandtide.example=192.0.2.1"])
            .expect(4)
            .contains("is not in nameserver set")
    );
    coast.run(&[&moved[..], &["--unready"]].concat()).expect(0);
    assert!(zone().contains("198.51.100.53") && !zone().contains("192.0.2.53\n"), "{}", zone());

    coast.run(&["zone", "move", "crumbandtide.example", "--to", "host"]).expect(3);
    coast.run(&["nameserver", "remove", "tide"]).expect(0);
    assert_eq!(coast.json(&["nameserver", "list"], 0)["sets"].as_array().unwrap().len(), 1);
}

#[test]
fn what_the_world_does_not_see_of_a_zone_here_is_told_from_what_the_zone_lacks() {
    let coast = Coast::new();
    coast.run(&["zone", "create", "gullrock.example", "--account", "bakery", "--bare"]).expect(0);
    coast.run(&["nameserver", "add", "own", "ns1.gullrock.example=192.0.2.53"]).expect(0);
    // The domain is with the old host: the zone here is right, and nobody asks for it.
    let told = coast.run(&["nameserver", "check", "own"]).expect(1);
    assert!(told.contains("the zone gullrock.example here says so already"), "{told}");
    let file = coast.harbor().join("zones/gullrock.example.zone");
    let text = fs::read_to_string(&file).unwrap();
    fs::write(&file, text.replace("192.0.2.53", "192.0.2.99")).unwrap();
    let told = coast.run(&["nameserver", "check", "own"]).expect(1);
    assert!(told.contains("brightharbor record add ns1.gullrock.example A 192.0.2.53"), "{told}");
}

#[test]
fn nameservers_join_and_leave_a_set_in_the_right_order() {
    let coast = Coast::with_bakery();
    let (ns1, old) = (coast.world.cast.nameservers()[0], coast.world.cast.old_web());
    let zone = || fs::read_to_string(coast.harbor().join("zones/crumbandtide.example.zone")).unwrap();
    coast.run(&["nameserver", "add", "tide", "ns1.saltmarsh.example", "ns2.saltmarsh.example"]).expect(0);
    let change = |more: &[&str]| coast.run(&[&["nameserver", "change", "tide"], more].concat());
    // The same names: nothing is left for the registrar.
    let moved = coast.run(&["zone", "move", "crumbandtide.example", "--to", "tide"]).expect(0);
    assert!(moved.contains("their records stay as they are"), "{moved}");

    // Nobody who does not have the zones joins unasked.
    let unready = format!("ns3.crumbandtide.example={old}");
    assert!(change(&["--add", &unready]).expect(4).contains("crumbandtide.example"));
    let ready = format!("ns3.crumbandtide.example={ns1}");
    let joined = change(&["--add", &ready]).expect(0);
    let registered =
        format!("3. at the registrar of crumbandtide.example, register the host ns3.crumbandtide.example with {ns1}");
    assert!(joined.contains("1. ns3.crumbandtide.example must serve the 1 domain of tide"), "{joined}");
    assert!(joined.contains(&registered) && joined.contains("4. name it in the zones"), "{joined}");
    assert!(zone().contains("\nns3\t"), "{}", zone());
    assert!(change(&["--add", &ready]).expect(0).contains("Nothing to change"));
    // The zones follow, and the delegation is the registrar's turn.
    let realigned = coast.run(&["zone", "realign", "--all"]).expect(0);
    assert!(realigned.contains("NS ns3.crumbandtide.example."), "{realigned}");
    let checked = coast.json(&["delegation", "check", "crumbandtide.example"], 1);
    assert!(codes(&checked).contains(&"nameservers-not-as-expected"), "{checked}");

    assert!(change(&["--remove", "ns9.saltmarsh.example"]).expect(4).contains("is not in nameserver set"));
    let all = ["--remove", "ns1.saltmarsh.example", "--remove", "ns2.saltmarsh.example"];
    let all = [&["nameserver", "change", "tide"], &all[..], &["--remove", "ns3.crumbandtide.example"]].concat();
    assert_eq!(coast.json(&all, 4)["error"]["code"], "no-nameserver-left");
    let left = change(&["--remove", "ns3.crumbandtide.example"]).expect(0);
    assert!(
        left.contains("1. take it out of the zones") && left.contains("3. ns3.crumbandtide.example must keep"),
        "{left}"
    );
    let realigned = coast.run(&["zone", "realign", "--all"]).expect(0);
    assert!(
        realigned.contains("- crumbandtide.example.") || realigned.contains("-crumbandtide.example."),
        "{realigned}"
    );
    coast.json(&["delegation", "check", "crumbandtide.example"], 0);
}

#[test]
fn a_handover_is_waited_for() {
    let coast = Coast::new();
    coast.run(&["attach", "gullrock.example", "--account", "bakery"]).expect(3);
    let page = coast.path("handover.html");
    let handover = ["delegation", "handover", "gullrock.example"];
    let text = coast.run(&handover).expect(3);
    assert!(text.contains("1. Set the nameservers of the domain to exactly these") && !text.contains(" 2. "), "{text}");
    coast.run(&[&handover[..], &["--html", page.to_str().unwrap()]].concat()).expect(3);
    let html = fs::read_to_string(&page).unwrap();
    assert!(html.starts_with("<!doctype html>") && html.contains("<td>ns2.saltmarsh.example</td>"), "{html}");
    let wait = ["delegation", "wait", "gullrock.example", "--for"];
    assert_eq!(coast.json(&[&wait[..], &["1"]].concat(), 3)["domains"][0]["verdict"], "waiting");
    coast.delegate_here("gullrock.example");
    assert_eq!(coast.json(&[&wait[..], &["1m"]].concat(), 0)["domains"][0]["verdict"], "well");
    assert!(coast.run(&handover).expect(0).contains("Nothing is left to do"));
    assert!(coast.run(&[&wait[..], &["soon"]].concat()).expect(2).contains("not a duration"));
    // Many at once: the verdict first, then what is not well.
    coast.run(&["attach", "lanternchoir.example", "--account", "bakery"]).expect(3);
    let all = coast.run(&["delegation", "check", "--all"]).expect(1);
    assert!(
        all.starts_with("2 domains: 1 well, 1 with faults") && all.contains("lanternchoir.example faults"),
        "{all}"
    );
    let list = coast.path("domains.txt");
    fs::write(&list, "# those of the co-op\nwww.gullrock.example\n\ngullrock.example # twice\n").unwrap();
    let from_file = coast.json(&["delegation", "check", "--from-file", list.to_str().unwrap()], 0);
    assert_eq!(from_file["verdicts"], json!({ "well": 1 }));
    fs::write(&list, "gull rock.example\n").unwrap();
    let spoilt = coast.run(&["delegation", "check", "--from-file", list.to_str().unwrap()]).expect(2);
    assert!(spoilt.contains("domains.txt:1"), "{spoilt}");
}

#[test]
fn how_far_a_change_has_spread() {
    let coast = Coast::with_bakery();
    let resolver = std::net::SocketAddr::new(coast.world.cast.resolver(), coast.world.cast.dns_port).to_string();
    let survey = ["survey", "www.crumbandtide.example", "--resolvers", &resolver];
    let spread = &coast.json(&survey, 0)["spreads"][0].clone();
    assert_eq!((&spread["caught_up"], &spread["resolvers"][0]["has"]), (&json!(1), &json!("current")), "{spread}");
    let old = coast.world.cast.old_web().to_string();
    coast.run(&["record", "replace", "www.crumbandtide.example", coast.address_type(), &old]).expect(0);
    let spread = &coast.json(&survey, 1)["spreads"][0].clone();
    assert_eq!((&spread["current"], &spread["resolvers"][0]["has"]), (&json!([old]), &json!("old")), "{spread}");
    assert!(spread["until"].is_string() && spread["everywhere"].is_string(), "{spread}");
    let silent = ["survey", "www.crumbandtide.example", "--resolvers", "127.0.0.1:9"];
    assert_eq!(coast.json(&silent, 1)["spreads"][0]["resolvers"][0]["has"], "failed");
}

//! Zones of a harbor: templates and mail settings, bringing them in step, moving them, watching a change arrive.

use std::fs;

use serde_json::json;

use crate::coast::Coast;

/// A line of harbor.toml in place of another one.
fn resettle(coast: &Coast, old: &str, new: &str) {
    let file = coast.harbor().join("harbor.toml");
    let text = fs::read_to_string(&file).unwrap();
    assert!(text.contains(old), "{text}");
    fs::write(&file, text.replacen(old, new, 1)).unwrap();
}

fn zone_text(coast: &Coast, zone: &str) -> String {
    fs::read_to_string(coast.harbor().join(format!("zones/{zone}.zone"))).unwrap()
}

#[test]
fn a_zone_is_made_from_a_chosen_template_with_the_mail_servers_that_are_meant() {
    let coast = Coast::new();
    let create = |zone: &'static str, more: &[&str]| {
        coast.run(&[&["zone", "create", zone, "--account", "bakery"][..], more].concat())
    };
    assert!(create("gullrock.example", &["--mail", "here"]).expect(4).contains("set `mail-servers` under [host]"));
    assert!(create("gullrock.example", &["--mail", "elsewhere"]).expect(2).contains("--mail-server"));
    assert!(create("gullrock.example", &["--template", "shop"]).expect(4).contains("as shop.zone"));
    assert!(create("gullrock.example", &["--template", "../shop"]).expect(2).contains("not a template name"));
    resettle(&coast, "[host]\n", "[host]\nmail-servers = [\"mx1.saltmarsh.example.\"]\n");
    let template = "$TTL 900\n@ SOA {{primary}} {{hostmaster}} {{serial}} 14400 1800 2419200 300\n@ NS {{nameserver}}\n\
                    @ A {{address4}}\n@ MX {{mx}}\n@ TXT {{spf}}\n";
    fs::write(coast.harbor().join("templates/shop.zone"), template).unwrap();
    create("gullrock.example", &["--mail", "here", "--template", "shop"]).expect(0);
    let text = zone_text(&coast, "gullrock.example");
    assert!(text.starts_with("$TTL 900\n") && text.contains("@ MX 10 mx1.saltmarsh.example.\n"), "{text}");
    let shown = coast.json(&["zone", "show", "gullrock.example"], 0);
    assert_eq!((&shown["template"], &shown["mail"]), (&json!("shop"), &json!("here")));
    // Another MX than the setting says is a finding of the zone in this harbor.
    coast.run(&["record", "replace", "gullrock.example", "MX", "10 mail.provider.example"]).expect(0);
    let checked = coast.json(&["zone", "check", "gullrock.example"], 0);
    assert_eq!(checked["findings"][0]["code"], "mail-not-as-set", "{checked}");
}

#[test]
fn a_changed_address_is_brought_to_all_zones_and_hand_made_records_stay() {
    let coast = Coast::new();
    let address = coast.world.cast.web().to_string();
    let (kind, new) = (coast.address_type(), coast.nowhere());
    let by_hand = if kind == "A" { "192.0.2.99" } else { "2001:db8::99" };
    coast.delegate_here("crumbandtide.example");
    coast.run(&["attach", "crumbandtide.example", "--account", "bakery"]).expect(0);
    coast.run(&["attach", "shop.crumbandtide.example", "--account", "bakery"]).expect(0);
    coast.run(&["zone", "create", "gullrock.example", "--account", "bakery"]).expect(0);
    coast.run(&["record", "replace", "www.gullrock.example", kind, by_hand]).expect(0);
    assert!(coast.run(&["zone", "realign"]).expect(0).contains("All zones match"));

    resettle(&coast, &format!("addresses = [\"{address}\"]"), &format!("addresses = [\"{new}\"]"));
    // What still leads to the old address is known to be a risk.
    let checked = coast.json(&["zone", "check", "gullrock.example"], 0);
    assert_eq!(checked["findings"][0]["code"], "former-address", "{checked}");
    let before = zone_text(&coast, "crumbandtide.example");
    let looked = coast.json(&["zone", "realign"], 3);
    assert_eq!((looked["zones"].as_array().unwrap().len(), &looked["carried_out"]), (2, &json!(false)));
    assert_eq!(zone_text(&coast, "crumbandtide.example"), before, "looking changes nothing");
    let one = coast.json(&["zone", "realign", "crumbandtide.example"], 0);
    assert_eq!(one["zones"][0]["added"].as_array().unwrap().len(), 3, "apex, www and the attached subdomain: {one}");
    assert!(zone_text(&coast, "crumbandtide.example").contains(&format!("shop\t3600\tIN\t{kind}\t{new}")));
    let rest = coast.run(&["zone", "realign", "--all"]).expect(0);
    assert!(rest.contains("Updated 1 of 2 zones"), "{rest}");
    assert!(rest.contains(&format!("kept, added or edited since it was made: www.gullrock.example {kind}")), "{rest}");
    assert!(zone_text(&coast, "gullrock.example").contains(by_hand));
    assert!(coast.run(&["zone", "realign"]).expect(0).contains("All zones match"));
    let logbook = coast.json(&["logbook"], 0);
    assert!(logbook["entries"].as_array().unwrap().iter().any(|entry| entry["what"] == "zone realign"), "{logbook}");
}

#[test]
fn the_start_of_authority_is_changed_by_command() {
    let coast = Coast::with_bakery();
    let change = |more: &[&str]| coast.run(&[&["zone", "change", "crumbandtide.example"], more].concat());
    let all = [
        "--soa-mailbox",
        "post@crumbandtide.example",
        "--soa-times",
        "2h 15m 4w 1m",
        "--soa-primary",
        "ns2.saltmarsh.example",
    ];
    let text = change(&all).expect(0);
    assert!(text.contains("ns2.saltmarsh.example post.crumbandtide.example, 2 h, 15 min, 28 d, 1 min"), "{text}");
    let zone = zone_text(&coast, "crumbandtide.example");
    assert!(zone.contains("ns2.saltmarsh.example. post.crumbandtide.example. ("), "{zone}");
    assert!(change(&all).expect(0).contains("Nothing to change"));
    assert!(change(&["--soa-times", "2h 15m"]).expect(2).contains("four times are needed"));
    assert!(change(&["--soa-mailbox", "post"]).expect(2).contains("is not a mailbox"));
    assert!(
        change(&["--soa-mailbox", "post@a.example", "--mail", "none"])
            .expect(2)
            .contains("one command after the other")
    );
}

#[test]
fn a_changed_template_reaches_the_zones_made_from_it_and_a_broken_one_is_refused() {
    let coast = Coast::new();
    coast.run(&["zone", "create", "gullrock.example", "--account", "bakery"]).expect(0);
    let by_hand = coast.path("by-hand.zone");
    let text = "$TTL 60\n@ SOA ns1.saltmarsh.example. host.saltmarsh.example. 7 14400 1800 2419200 300\n\
                @ NS ns1.saltmarsh.example.\n@ NS ns2.saltmarsh.example. ; as the choir wrote it\n";
    fs::write(&by_hand, text).unwrap();
    let from = by_hand.to_str().unwrap();
    coast.run(&["zone", "create", "lanternchoir.example", "--account", "bakery", "--from", from]).expect(0);
    assert_eq!(zone_text(&coast, "lanternchoir.example"), text, "a file comes in byte for byte");

    let template = "$TTL 3600\n@ SOA {{primary}} {{hostmaster}} {{serial}} 14400 900 2419200 300\n@ NS {{nameserver}}\n\
                    @ A {{address4}}\nwww A {{address4}}\n_dmarc TXT \"v=DMARC1; p=none\"\n";
    let file = coast.harbor().join("templates/default.zone");
    fs::write(&file, template).unwrap();
    let realigned = coast.run(&["zone", "realign", "--all"]).expect(0);
    assert!(realigned.contains("+_dmarc.gullrock.example. 3600 IN TXT \"v=DMARC1; p=none\""), "{realigned}");
    assert!(realigned.contains("1 zone came from no template"), "{realigned}");
    let text = zone_text(&coast, "gullrock.example");
    assert!(text.contains("\t\t\t900\t; retry\n") && text.contains("; Zone of gullrock.example."), "{text}");
    fs::write(&file, template.replace("@ NS {{nameserver}}\n", "")).unwrap();
    let refused = coast.run(&["zone", "realign", "--all"]).expect(1);
    assert!(refused.contains("not changed") && refused.contains("no-nameserver"), "{refused}");
    assert_eq!(zone_text(&coast, "gullrock.example"), text);
}

#[test]
fn zones_move_to_another_nameserver_set() {
    let coast = Coast::new();
    coast.run(&["zone", "create", "gullrock.example", "--account", "bakery"]).expect(0);
    assert!(
        coast.run(&["zone", "move", "--to", "coast", "--all"]).expect(4).contains("nameserver set `coast` not found")
    );
    assert!(coast.run(&["zone", "move", "--to", "host"]).expect(2).contains("no zone was named"));
    let set = "[nameserver-sets.coast]\nnameservers = [\"ns.gullrock.example.\", \"ns3.saltmarsh.example.\"]\n\
               addresses = { \"ns.gullrock.example.\" = [\"192.0.2.53\"] }\n\n[sites]\n";
    resettle(&coast, "[sites]\n", set);
    let before = zone_text(&coast, "gullrock.example");
    coast.run(&["zone", "move", "--to", "coast", "gullrock.example", "--dry-run"]).expect(3);
    assert_eq!(zone_text(&coast, "gullrock.example"), before);
    let moved = coast.run(&["zone", "move", "--to", "coast", "gullrock.example"]).expect(3);
    assert!(moved.contains("at the registrar") && moved.contains("ns.gullrock.example 192.0.2.53"), "{moved}");
    let text = zone_text(&coast, "gullrock.example");
    assert!(text.contains("SOA\tns.gullrock.example. hostmaster.saltmarsh.example. ("), "{text}");
    assert!(!text.contains("ns1.saltmarsh") && text.contains("ns\t3600\tIN\tA\t192.0.2.53"), "{text}");
    // `zone change` says as well what the registrar has to enter.
    let back = coast.json(&["zone", "change", "gullrock.example", "--nameserver-set", "host", "--dry-run"], 3);
    let told = back["change"]["remarks"].as_array().unwrap();
    let values = &told.iter().find(|remark| remark["code"] == "nameservers-to-enter").unwrap()["values"];
    assert_eq!(values, &json!(["nameserver ns1.saltmarsh.example", "nameserver ns2.saltmarsh.example"]));
    // The set is what the domain is expected to be delegated to from now on, and the zone counts as in step.
    let shown = coast.json(&["zone", "show", "gullrock.example"], 0);
    assert_eq!(shown["nameservers"], json!(["ns.gullrock.example", "ns3.saltmarsh.example"]));
    assert!(coast.run(&["zone", "realign"]).expect(0).contains("All zones match"));
    let again = coast.run(&["zone", "move", "--to", "coast", "--all"]).expect(0);
    assert!(again.contains("already use nameserver set `coast`"), "{again}");
}

#[test]
fn a_change_elsewhere_is_watched_until_it_is_seen() {
    let coast = Coast::new();
    coast.run(&["zone", "create", "gullrock.example", "--account", "bakery", "--home", "elsewhere"]).expect(0);
    let add = ["record", "add", "gullrock.example", "A", "192.0.2.1", "--watch"];
    let waited = coast.run(&[&add[..], &["1"]].concat()).expect(3);
    assert!(waited.contains("gullrock.example. 3600 IN A 192.0.2.1"), "{waited}");
    assert!(waited.contains("Not on all authoritative servers") && waited.contains("ns1.oldquay.example"), "{waited}");
    assert!(coast.run(&[&add[..], &["soon"]].concat()).expect(2).contains("not a duration"));
    // What the old host has already is seen at once.
    let there = coast.world.cast.old_web().to_string();
    let seen = coast.json(&["record", "add", "gullrock.example", coast.address_type(), &there, "--watch", "20"], 0);
    assert_eq!((&seen["watched"]["everywhere"], &seen["watched"]["servers"][0]["seen"]), (&json!(true), &json!(true)));
    // A zone kept here is watched the same way, once it is delegated here.
    coast.run(&["zone", "create", "crumbandtide.example", "--account", "bakery"]).expect(0);
    coast.delegate_here("crumbandtide.example");
    let seen = coast.run(&["record", "add", "shop.crumbandtide.example", "A", "192.0.2.7", "--watch", "20"]).expect(0);
    assert!(seen.contains("All authoritative servers (2) have it"), "{seen}");
}

#[test]
fn publishing_needs_secondaries_and_a_server_that_has_any() {
    let coast = Coast::new();
    assert!(coast.run(&["zone", "publish"]).expect(4).contains("[[secondaries]]"));
    let secondary =
        "[[secondaries]]\nname = \"ns2.saltmarsh.example.\"\naddress = \"127.0.0.1\"\nkey-file = \"/k\"\n[ca]\n";
    resettle(&coast, "[ca]\n", secondary);
    assert!(coast.run(&["zone", "publish"]).expect(4).contains("the stand-in DNS host publishes nothing"));
    assert!(coast.run(&["zone", "show", "gullrock.example"]).expect(4).contains("zone gullrock.example not found"));
}

#[test]
fn a_zone_gets_other_mail_another_account_and_keeps_what_was_edited_by_hand() {
    let coast = Coast::new();
    coast.run(&["zone", "create", "gullrock.example", "--account", "bakery"]).expect(0);
    coast.run(&["account", "add", "choir", "--email", "choir@saltmarsh.example"]).expect(0);
    coast.run(&["record", "add", "quay.gullrock.example", "A", "192.0.2.9"]).expect(0);
    let none = coast.run(&["zone", "change", "gullrock.example", "--mail", "none", "--account", "choir"]).expect(0);
    assert!(none.contains("MX 0 .") && none.contains("choir"), "{none}");
    let zone = std::fs::read_to_string(coast.harbor().join("zones/gullrock.example.zone")).unwrap();
    assert!(zone.contains("v=spf1 -all") && zone.contains("quay"), "{zone}");
    // It is in step with what it is made by now.
    coast.run(&["zone", "realign", "gullrock.example", "--dry-run"]).expect(0);
    let back = coast.run(&["zone", "change", "gullrock.example", "--mail", "unsaid"]).expect(0);
    assert!(back.contains("-gullrock.example. 3600 IN MX 0 ."), "{back}");
    assert!(coast.run(&["zone", "change", "gullrock.example"]).expect(0).contains("Nothing to change"));
    // One from a file has no template to be changed.
    let file = coast.path("drift.zone");
    std::fs::write(&file, zone.replace("gullrock", "driftwood")).unwrap();
    let file = file.display().to_string();
    coast.run(&["zone", "create", "driftwood.example", "--account", "bakery", "--from", &file]).expect(0);
    let refused = coast.json(&["zone", "change", "driftwood.example", "--mail", "none"], 4);
    assert_eq!(refused["error"]["code"], "no-template", "{refused}");
}

#[test]
fn a_zone_file_from_outside_leads_to_no_other_file_unless_that_is_asked_for() {
    let coast = Coast::new();
    let zone = "$TTL 300\n@ SOA ns1.saltmarsh.example. host 7 4h 30m 4w 5m\n@ NS ns1.saltmarsh.example.\n";
    let file = coast.path("drift.zone");
    let with = |line: &str| std::fs::write(&file, format!("{zone}$INCLUDE {line}\n")).unwrap();
    let shown = file.display().to_string();
    let part = coast.path("drift.part");
    std::fs::write(&part, "www A 192.0.2.10\n").unwrap();
    let part = part.display().to_string();
    let origin = ["--origin", "driftwood.example"];
    for line in ["/etc/passwd", "/dev/zero", &part] {
        with(line);
        for command in [vec!["zone", "check", "--file", &shown], vec!["zone", "print", &shown]] {
            let refused = coast.run(&[&command[..], &origin].concat()).expect(1);
            assert!(refused.contains("drift.zone:4:") && refused.contains("--follow-includes"), "{refused}");
        }
        let create = ["zone", "create", "driftwood.example", "--account", "bakery", "--from", &shown];
        assert_eq!(coast.json(&create, 4)["error"]["code"], "zone-unreadable");
        let add = ["record", "add", "pier", "A", "192.0.2.7", "--file", &shown];
        assert_eq!(coast.json(&[&add[..], &origin].concat(), 4)["error"]["code"], "zone-unreadable");
        let follow = [&["zone", "print", &shown, "--follow-includes"][..], &origin].concat();
        let followed = coast.run(&follow);
        match line == part {
            true => assert!(followed.expect(0).contains("www.driftwood.example. 300 IN A 192.0.2.10"), "{line}"),
            false => assert!(followed.expect(1).contains("is not below"), "{line}"),
        }
    }
    // A pipe that nobody writes to is no zone.
    let pipe = coast.path("pipe.zone").display().to_string();
    assert!(std::process::Command::new("mkfifo").arg(&pipe).status().unwrap().success());
    let failed = coast.run(&[&["zone", "check", "--file", &pipe][..], &origin].concat());
    assert!(failed.exit != 0 && format!("{failed:?}").contains("not a regular file"), "{failed:?}");
}

#[test]
fn nothing_that_a_stranger_wrote_moves_a_terminal() {
    let coast = Coast::new();
    let hostile = "\x1b]0;title\x07\x1b[2J\u{202e}\u{9b}31m";
    let zone = format!(
        "; {hostile}\n$TTL 300\n@ SOA ns1.saltmarsh.example. host.saltmarsh.example. 7 14400 1800 604800 300\n@ NS ns1.saltmarsh.example.\n@ TXT \"\\027[2J\"\n"
    );
    let file = coast.path("drift\x1b[2J.zone");
    std::fs::write(&file, &zone).unwrap();
    let shown = file.display().to_string();
    let origin = ["--origin", "driftwood.example"];
    coast.run(&["zone", "create", "driftwood.example", "--account", "bakery", "--from", &shown]).expect(0);
    let missing = coast.path("gone\x1b[2J\nerror: all is well").display().to_string();
    let bad = coast.path("bad.zone").display().to_string();
    std::fs::write(&bad, format!("{zone}@ {hostile} A\n")).unwrap();
    let commands: [Vec<&str>; 7] = [
        vec!["zone", "show", "driftwood.example"],
        vec!["record", "list", "driftwood.example"],
        vec!["zone", "remove", "driftwood.example"],
        [&["zone", "print", &shown][..], &origin].concat(),
        [&["zone", "check", "--file", &shown][..], &origin].concat(),
        [&["zone", "check", "--file", &bad][..], &origin].concat(),
        [&["zone", "check", "--file", &missing][..], &origin].concat(),
    ];
    for command in commands {
        let run = coast.run(&command);
        let said = format!("{}{}", run.stdout, run.stderr);
        let moves = |c: char| (c.is_control() && c != '\n' && c != '\t') || ('\u{202a}'..='\u{202e}').contains(&c);
        assert!(!said.contains(moves) && !said.is_empty(), "{command:?}: {said:?}");
        assert!(!said.contains("\nerror: all is well"), "{said}");
        // JSON is read at terminals too, and says the same.
        let document = coast.run(&[&command[..], &["--json"]].concat()).stdout;
        assert!(!document.contains(moves) && document.starts_with('{'), "{command:?}: {document:?}");
        serde_json::from_str::<serde_json::Value>(&document).unwrap();
    }
    // What is printed back goes through byte for byte.
    let exact = coast.run(&[&["zone", "print", &shown, "--exact"][..], &origin].concat()).stdout;
    assert_eq!(exact, zone);
}

/// Many parents delegate a reverse zone only once it is served: it is made ahead, and has no site.
#[test]
fn a_reverse_zone_is_made_before_anybody_delegates_it() {
    let coast = Coast::new();
    let create = ["zone", "create", "2.0.192.in-addr.arpa", "--account", "bakery"];
    let asked = coast.json(&create, 4);
    assert_eq!(asked["error"]["consents"][0]["code"], "begins-undelegated", "{asked}");
    coast.run(&[&create[..], &["--yes"]].concat()).expect(0);
    coast.run(&["record", "add", "7.2.0.192.in-addr.arpa", "PTR", "mail.crumbandtide.example."]).expect(0);
    let zone = std::fs::read_to_string(coast.harbor().join("zones/2.0.192.in-addr.arpa.zone")).unwrap();
    assert!(zone.contains("PTR\tmail.crumbandtide.example.") && !zone.contains("\tA\t"), "{zone}");
    assert!(!coast.run(&["zone", "realign", "--all", "--yes"]).expect(0).contains("2.0.192"));
    // The check is about the zone that is kept, not about the domain that a list of suffixes would guess.
    let checked = coast.json(&["delegation", "check", "2.0.192.in-addr.arpa"], 1);
    assert_eq!(checked["domains"][0]["domain"], "2.0.192.in-addr.arpa", "{checked:#}");
    let cure = checked["domains"][0]["findings"][0]["cure"].as_str().unwrap();
    assert!(cure.starts_with("ask whoever keeps the zone") && cure.contains("ns1.saltmarsh.example"), "{cure}");
    let page = coast.run(&["delegation", "handover", "2.0.192.in-addr.arpa"]).expect(3);
    assert!(page.starts_with("2.0.192.in-addr.arpa: for whoever keeps the zone"), "{page}");
    assert!(page.contains("2.0.192.in-addr.arpa. NS ns1.saltmarsh.example.") && !page.contains("registrar"), "{page}");
    // Below a zone of ours, that one says where another begins, and can say so at once.
    let inside = ["zone", "create", "7.2.0.192.in-addr.arpa", "--account", "bakery", "--yes"];
    assert_eq!(coast.json(&inside, 4)["error"]["code"], "no-cut");
    coast.run(&["record", "remove", "7.2.0.192.in-addr.arpa", "PTR"]).expect(0);
    coast.run(&["record", "add", "7.2.0.192.in-addr.arpa", "NS", "ns1.saltmarsh.example."]).expect(0);
    coast.run(&inside).expect(0);
}

/// RFC 2317: a zone for part of a network, whose name has a slash. Its file has none, and no site can be called so.
#[test]
fn a_reverse_zone_may_be_of_part_of_a_network() {
    let coast = Coast::new();
    let zone = "0/25.2.0.192.in-addr.arpa";
    let pointer = "7.0/25.2.0.192.in-addr.arpa";
    coast.run(&["zone", "create", zone, "--account", "bakery", "--yes"]).expect(0);
    coast.run(&["record", "add", pointer, "PTR", "mail.crumbandtide.example."]).expect(0);
    assert!(coast.harbor().join("zones/0_25.2.0.192.in-addr.arpa.zone").is_file());
    let listed = coast.json(&["record", "list", zone], 0);
    assert_eq!((&listed["zone"], listed["records"].as_array().unwrap().len()), (&zone.into(), 4), "{listed}");
    assert_eq!(coast.json(&["delegation", "check", zone], 1)["domains"][0]["domain"], zone);
    let page = coast.json(&["delegation", "handover", zone], 3);
    assert_eq!(page["part"], serde_json::json!({ "network": "2.0.192.in-addr.arpa", "first": 0, "last": 127 }));
    let text = page["text"].as_str().unwrap();
    assert!(text.contains("N.2.0.192.in-addr.arpa.  CNAME  N.0/25.2.0.192.in-addr.arpa."), "{text}");
    for command in [&["attach", pointer, "--account", "bakery"][..], &["certificate", "issue", zone]] {
        let refused = coast.json(command, 2);
        assert!(refused["error"]["message"].as_str().unwrap().contains("`/` is not allowed"), "{refused}");
    }
    for wrong in ["0/33.2.0.192.in-addr.arpa", "0/25.gullrock.example", "../x.2.0.192.in-addr.arpa"] {
        assert_eq!(
            coast.json(&["zone", "create", wrong, "--account", "bakery", "--yes"], 2)["error"]["code"],
            "hostname"
        );
    }
    let removed = coast.run(&["zone", "remove", zone, "--yes"]).expect(0);
    assert!(removed.contains("removed/0_25.2.0.192.in-addr.arpa."), "{removed}");
}

//! What programs rely on: dry runs that change nothing, one JSON document with settled members, exit codes.

use std::collections::BTreeSet;
use std::fs;

use crate::coast::{Coast, brightharbor, run, snapshot};

fn members(value: &serde_json::Value) -> BTreeSet<&str> {
    value.as_object().unwrap().keys().map(String::as_str).collect()
}

#[test]
fn a_dry_run_shows_what_is_then_carried_out_and_changes_nothing() {
    let coast = Coast::new();
    let before = (snapshot(&coast.harbor()), snapshot(&coast.path("homes")));
    let arguments = ["attach", "crumbandtide.example", "--account", "bakery"];
    let shown = coast.json(&[&arguments[..], &["--dry-run"]].concat(), 0);
    assert_eq!(before, (snapshot(&coast.harbor()), snapshot(&coast.path("homes"))));
    assert_eq!(shown["change"]["carried_out"], false);
    let diff = shown["change"]["diff"].as_str().unwrap();
    assert!(diff.contains("+@\tIN\tNS\tns1.saltmarsh.example."), "{diff}");
    let text = coast.run(&[&arguments[..], &["--dry-run"]].concat()).expect(0);
    assert!(text.contains("nothing was changed.") && text.contains("+@ IN NS ns1.saltmarsh.example."), "{text}");
    let done = coast.json(&arguments, 3);
    assert_eq!(done["change"]["changes"], shown["change"]["changes"]);
    assert_eq!(done["change"]["diff"], shown["change"]["diff"]);
    assert_eq!(done["change"]["entry"], 2);

    let before = snapshot(&coast.harbor());
    coast.run(&["account", "add", "choir", "--email", "choir@saltmarsh.example", "--dry-run"]).expect(0);
    assert!(coast.run(&["tend", "--dry-run"]).expect(3).contains("Would try now: crumbandtide.example"));
    assert!(coast.run(&["certificate", "issue", "crumbandtide.example", "--dry-run"]).expect(3).contains("left out"));
    assert_eq!(before, snapshot(&coast.harbor()));
    assert_eq!(coast.json(&["account", "list"], 0)["accounts"].as_array().unwrap().len(), 1);
}

#[test]
fn documents_have_their_settled_members() {
    let coast = Coast::new();
    let attached = coast.json(&["attach", "crumbandtide.example", "--account", "bakery"], 3);
    assert_eq!(
        members(&attached),
        BTreeSet::from([
            "format",
            "exit",
            "command",
            "change",
            "certificate",
            "certificates",
            "links_not_checked",
            "surveys"
        ])
    );
    assert_eq!(
        members(&attached["change"]),
        BTreeSet::from(["carried_out", "entry", "remarks", "consents", "changes", "diff"])
    );
    let survey = &attached["surveys"][0];
    assert_eq!(members(survey), BTreeSet::from(["hostname", "all_hold", "stops_at", "links"]));
    assert_eq!(
        members(&survey["links"][0]),
        BTreeSet::from(["link", "state", "until", "code", "because", "turn", "values"])
    );
    let names: Vec<&str> =
        survey["links"].as_array().unwrap().iter().map(|link| link["link"].as_str().unwrap()).collect();
    assert_eq!(names, ["registered", "delegated", "resolves", "answers", "secure", "lands"]);
    let accounts = coast.json(&["account", "list"], 0);
    assert_eq!(
        members(&accounts["accounts"][0]),
        BTreeSet::from(["name", "email", "home", "system_user", "plan", "reseller", "sites"])
    );
    let sites = coast.json(&["site", "list", "--account", "bakery"], 0);
    assert_eq!(
        members(&sites["sites"][0]),
        BTreeSet::from([
            "hostnames",
            "kind",
            "account",
            "document_root",
            "https",
            "hosts",
            "certificate",
            "redirects",
            "stops_at",
            "waiting"
        ])
    );
    let records = coast.json(&["record", "list", "www.crumbandtide.example"], 0);
    assert_eq!(records["zone"], "crumbandtide.example");
    assert_eq!(members(&records["records"][0]), BTreeSet::from(["owner", "ttl", "type", "data"]));
    let logbook = coast.json(&["logbook", "--last", "1"], 0);
    assert_eq!(
        members(&logbook["entries"][0]),
        BTreeSet::from(["entry", "at", "who", "what", "changes", "outcome", "detail"])
    );
    let codes: Vec<&serde_json::Value> =
        logbook["entries"][0]["changes"].as_array().unwrap().iter().map(|change| &change["code"]).collect();
    assert!(!codes.is_empty() && codes.iter().all(|code| code.is_string()), "{logbook}");
    let explained = coast.json(&["explain", "glue-missing"], 0);
    assert_eq!(
        members(&explained["findings"][0]),
        BTreeSet::from(["code", "severity", "what", "why", "cure", "source"])
    );
    let error = coast.json(&["attach", "a.example", "--account", "nobody"], 4);
    assert_eq!(members(&error["error"]), BTreeSet::from(["code", "message", "advice", "account"]));
    assert_eq!(error["error"]["code"], "unknown-account");
}

#[test]
fn a_mistyped_account_is_refused_by_every_list_of_an_account() {
    let coast = Coast::new();
    for list in [&["site", "list"][..], &["redirect", "list"], &["zone", "list"], &["zone", "realign"]] {
        let error = coast.json(&[list, &["--account", "bakary"]].concat(), 4);
        assert_eq!(error["error"]["code"], "unknown-account", "{list:?}");
    }
}

#[test]
fn text_keeps_within_100_columns_and_carries_no_colour_into_a_pipe() {
    let coast = Coast::new();
    let long = "a-quite-long-name-for-a-shop-that-sells-bread-and-tides.crumbandtide.example";
    for arguments in [
        &["attach", "crumbandtide.example", "--account", "bakery"][..],
        &["attach", long, "--account", "bakery"],
        &["survey", "crumbandtide.example", long],
        &["site", "list"],
        &["logbook"],
        &["explain"],
        &["delegation", "check", "crumbandtide.example"],
    ] {
        let run = run(coast.command(arguments).env_remove("NO_COLOR"));
        assert!(!run.stdout.contains('\u{1b}'), "{}", run.stdout);
        for line in run.stdout.lines() {
            // A path or a command that must be copied whole may be longer.
            let longest_word = line.split_whitespace().map(str::len).max().unwrap_or(0);
            // In a pipe each row of a list is a line.
            let is_list = matches!(arguments, ["site", "list"] | ["logbook"] | ["explain"]);
            assert!(line.chars().count() <= 100 || longest_word > 60 || is_list, "{arguments:?}: {line}");
        }
    }
}

#[test]
fn help_and_version_need_no_harbor() {
    let version = run(brightharbor().arg("--version"));
    assert_eq!(version.stdout, format!("brightharbor {}\n", env!("CARGO_PKG_VERSION")));
    let help = run(brightharbor().arg("--help")).expect(0);
    for command in ["init", "demo", "account", "attach", "site", "record", "delegation", "certificate", "survey"] {
        assert!(help.contains(command), "{command}");
    }
    assert!(help.contains("4 refused, nothing changed"), "{help}");
}

#[test]
fn documents_about_zones_sites_and_plans_have_their_settled_members() {
    let coast = Coast::new();
    coast.run(&["attach", "crumbandtide.example", "--account", "bakery"]).expect(3);
    coast.run(&["redirect", "add", "crumbandtide.example/a", "/b"]).expect(0);
    coast.run(&["plan", "add", "small", "--redirects", "1"]).expect(0);
    let zones = coast.json(&["zone", "list"], 0);
    let zone = BTreeSet::from([
        "zone",
        "account",
        "home",
        "serial",
        "records",
        "problem",
        "edited_by_hand",
        "signed_by",
        "servers",
    ]);
    assert_eq!(members(&zones["zones"][0]), zone);
    let server = BTreeSet::from(["name", "address", "serial", "in_step", "problem"]);
    assert_eq!(members(&zones["zones"][0]["servers"][0]), server);
    let shown = coast.json(&["zone", "show", "crumbandtide.example"], 0);
    let expected = [
        "format",
        "exit",
        "command",
        "zone",
        "account",
        "home",
        "place",
        "link",
        "signed",
        "serial",
        "records",
        "template",
        "mail",
        "ready_to_move_at",
        "nameservers",
        "servers",
        "findings",
    ];
    assert_eq!(members(&shown), BTreeSet::from(expected));
    let realigned = coast.json(&["zone", "realign"], 0);
    let expected = ["format", "exit", "command", "carried_out", "change", "looked_at", "from_no_template", "zones"];
    assert_eq!(members(&realigned), BTreeSet::from(expected));
    let redirects = coast.json(&["redirect", "list"], 0);
    let expected = ["account", "host", "path", "prefix", "with_twin", "target", "status", "keep_path", "until"];
    assert_eq!(members(&redirects["redirects"][0]), BTreeSet::from(expected));
    let tried = coast.json(&["redirect", "try", "crumbandtide.example/a"], 0);
    let expected =
        ["format", "exit", "command", "ends", "agree", "model", "model_end", "model_part", "live", "live_end"];
    assert_eq!(members(&tried), BTreeSet::from(expected));
    let site = coast.json(&["site", "show", "crumbandtide.example"], 0);
    assert_eq!(
        members(&site),
        BTreeSet::from(["format", "exit", "command", "site", "certificate", "logs", "file", "changed_by_hand"])
    );
    let expected = [
        "hostnames",
        "kind",
        "account",
        "document_root",
        "content",
        "www",
        "https",
        "hosts",
        "https_policy",
        "tls_from",
        "hsts_seconds",
        "redirects",
    ];
    assert_eq!(members(&site["site"]), BTreeSet::from(expected));
    let plans = coast.json(&["plan", "list"], 0);
    assert_eq!(
        members(&plans["plans"][0]["limits"]),
        BTreeSet::from([
            "addon_domains",
            "subdomains",
            "alias_domains",
            "redirects",
            "disk_mib",
            "scripts",
            "script_memory_mib"
        ])
    );
    let account = coast.json(&["account", "show", "bakery"], 0);
    assert_eq!(
        members(&account),
        BTreeSet::from(["format", "exit", "command", "account", "limits", "usage", "zones", "sold", "disk_bytes"])
    );
    let checked = coast.json(&["delegation", "check", "crumbandtide.example"], 1);
    let own = BTreeSet::from(["format", "exit", "command", "verdicts", "questions_asked", "domains"]);
    assert_eq!(members(&checked), own);
    assert_eq!(
        members(&checked["domains"][0]),
        BTreeSet::from([
            "domain",
            "verdict",
            "registered",
            "parent",
            "delegated_to",
            "expected",
            "ds",
            "chain",
            "findings",
            "nameservers",
            "comparison",
            "questions",
            "seen_at"
        ])
    );
    assert_eq!(members(&checked["domains"][0]["comparison"][0]), BTreeSet::from(["what", "parent", "zone", "servers"]));
    let finding = BTreeSet::from([
        "code",
        "severity",
        "waiting_until",
        "subject",
        "message",
        "cure",
        "follows",
        "line",
        "column",
    ]);
    assert_eq!(members(&checked["domains"][0]["findings"][0]), finding);
    let waited = coast.json(&["delegation", "wait", "crumbandtide.example", "--for", "0"], 3);
    let of_wait = ["format", "exit", "command", "waited_seconds", "parent_servers", "domains"];
    assert_eq!(members(&waited), BTreeSet::from(of_wait));
    let parent = &waited["parent_servers"]["crumbandtide.example"][0];
    assert_eq!(members(parent), BTreeSet::from(["server", "has", "other"]));
    let sets = coast.json(&["nameserver", "list"], 0);
    assert_eq!(members(&sets["sets"][0]), BTreeSet::from(["name", "nameservers", "account", "capacity", "domains"]));
    let certificates = coast.json(&["certificate", "list"], 3);
    assert_eq!(
        members(&certificates["certificates"][0]),
        BTreeSet::from([
            "site",
            "email",
            "profile",
            "stapled",
            "hostnames",
            "account",
            "ca",
            "source",
            "state",
            "names",
            "not_after",
            "days_left",
            "served_at",
            "uncovered",
            "waiting"
        ])
    );
    let shown = coast.json(&["certificate", "check", "127.0.0.1:9"], 1);
    assert_eq!(
        members(&shown["servers"][0]),
        BTreeSet::from([
            "host",
            "address",
            "verdict",
            "failed",
            "starttls",
            "asked_for",
            "asks_for_client",
            "trusted",
            "names",
            "issuer",
            "not_after",
            "key",
            "sent",
            "versions",
            "cipher_suites",
            "weak_cipher",
            "alpn",
            "revocation",
            "staple",
            "hsts_seconds",
            "without_name",
            "findings"
        ])
    );
    let handover = coast.json(&["delegation", "handover", "crumbandtide.example"], 3);
    assert_eq!(
        members(&handover),
        BTreeSet::from([
            "noted",
            "format",
            "exit",
            "command",
            "domain",
            "done",
            "keeper",
            "part",
            "present",
            "remove_ds",
            "wait_seconds",
            "hosts",
            "nameservers",
            "add_ds",
            "text"
        ])
    );
    let detached = coast.json(&["detach", "crumbandtide.example"], 0);
    assert_eq!(members(&detached), BTreeSet::from(["format", "exit", "command", "change"]));
}

#[test]
fn documents_about_what_a_ca_is_told_have_their_settled_members() {
    let coast = Coast::with_bakery();
    let told = coast.json(&["ca", "change-key", "--dry-run"], 0);
    assert_eq!(members(&told), BTreeSet::from(["format", "exit", "command", "ca", "carried_out", "change"]));
    let revoked = coast.json(&["certificate", "revoke", "crumbandtide.example"], 0);
    assert_eq!(
        members(&revoked),
        BTreeSet::from([
            "format",
            "exit",
            "command",
            "site",
            "carried_out",
            "revoked_until",
            "successor",
            "followed",
            "services",
            "change"
        ])
    );
    let tended = coast.json(&["tend"], 0);
    assert_eq!(
        members(&tended),
        BTreeSet::from([
            "format",
            "exit",
            "backup",
            "backup_failed",
            "notified",
            "metrics_failed",
            "command",
            "carried_out",
            "tried",
            "ended",
            "stuck",
            "services",
            "revoked",
            "demanded",
            "would_try",
            "edited_zones",
            "staples",
            "signing",
            "running_out",
            "out_of_step",
            "later",
            "paused"
        ])
    );
    let dry = coast.json(&["certificate", "issue", "crumbandtide.example", "--dry-run"], 0);
    assert_eq!(
        members(&dry),
        BTreeSet::from([
            "format",
            "exit",
            "command",
            "carried_out",
            "in_place",
            "covers",
            "proofs",
            "sites",
            "left_out",
            "ca_silent"
        ])
    );
}

#[test]
fn documents_about_loading_moving_and_nameservers_have_their_settled_members() {
    let coast = Coast::new();
    coast.run(&["zone", "create", "gullrock.example", "--account", "bakery"]).expect(0);
    let every = ["command", "exit", "format"];
    let with = |more: &[&'static str]| every.iter().chain(more).copied().collect::<BTreeSet<&str>>();
    let loaded = coast.json(&["zone", "load"], 0);
    assert_eq!(members(&loaded), with(&["carried_out", "change", "zones"]));
    let row = BTreeSet::from(["zone", "outcome", "serial", "raised_from", "reason"]);
    assert_eq!(members(&loaded["zones"][0]), row);
    let elsewhere = coast.json(&["zone", "prepare-move", "gullrock.example", "--dry-run"], 0);
    assert_eq!(members(&elsewhere), with(&["kept", "ready_at", "to_lower", "ttl", "zone"]));
    coast.delegate_here("gullrock.example");
    let here = coast.json(&["zone", "prepare-move", "gullrock.example", "--dry-run"], 0);
    assert_eq!(members(&here), with(&["change"]));
    let away = coast.json(&["zone", "create", "choir.example", "--account", "bakery", "--home", "elsewhere"], 0);
    assert_eq!(members(&away), with(&["change"]));
    let checked: serde_json::Value =
        serde_json::from_str(&coast.run(&["nameserver", "check", "host", "--json"]).stdout).unwrap();
    assert_eq!(members(&checked), with(&["set", "nameservers", "weaknesses"]), "{checked}");
    let nameserver = ["name", "holds", "addresses", "registry", "zone", "servers", "next"];
    assert_eq!(members(&checked["nameservers"][0]), BTreeSet::from(nameserver));
    assert_eq!(members(&checked["nameservers"][0]["registry"]), BTreeSet::from(["state", "words", "servers"]));
    let printed = coast.harbor().join("zones/gullrock.example.zone").display().to_string();
    let printed = coast.json(&["zone", "print", &printed, "--origin", "gullrock.example"], 0);
    assert_eq!(members(&printed), with(&["records", "merged_ttls"]));
}

#[test]
fn documents_about_listings_and_the_logbook_have_their_settled_members() {
    let coast = Coast::new();
    let path = coast.path("listing.toml");
    fs::write(&path, "[plans.small]\nredirects = 3\n").unwrap();
    let loaded = coast.json(&["load", path.to_str().unwrap()], 0);
    let common = ["format", "exit", "command"];
    let with = |more: &[&'static str]| BTreeSet::from_iter(common.into_iter().chain(more.iter().copied()));
    assert_eq!(members(&loaded), with(&["tables", "hsts_later", "change"]));
    assert_eq!(
        members(&loaded["tables"]),
        BTreeSet::from(["plans", "accounts", "nameserver_sets", "sites", "redirects", "records"])
    );
    assert_eq!(members(&loaded["tables"]["plans"]), BTreeSet::from(["added", "changed", "same", "removed"]));
    let written = coast.json(&["load", "--write", coast.path("written.toml").to_str().unwrap()], 0);
    assert_eq!(members(&written), with(&["written", "tables"]));
    let shown = coast.json(&["logbook", "show", "2"], 0);
    let of_entry = ["entry", "at", "who", "what", "changes", "outcome", "detail", "diff", "can_be_undone", "why_not"];
    assert_eq!(members(&shown), with(&of_entry));
    let undone = coast.json(&["undo"], 0);
    assert_eq!(members(&undone), with(&["change"]));
    assert_eq!(members(&undone["change"]["remarks"][0]), BTreeSet::from(["code", "text", "entry", "title", "stays"]));
    let manual = coast.json(&["manual", "--to", coast.path("share").to_str().unwrap()], 0);
    assert_eq!(members(&manual), with(&["pages", "pages_in", "completions"]));
    let report = coast.json(&["report", "--to", coast.path("report").to_str().unwrap(), "--unasked"], 0);
    assert_eq!(members(&report), with(&["to", "pages", "hostnames", "broken", "waiting"]));
}

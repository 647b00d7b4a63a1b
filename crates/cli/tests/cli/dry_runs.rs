//! Every changing command, dry and real, on several states of a harbor: the same plan, the same diff, the same end.
//!
//! The steps of a state follow each other, so that each is tried on what the ones before have left. A dry run must change
//! nothing, show what the real run then does, and end with the same exit code; one that is refused is refused alike.

use std::collections::BTreeSet;

use serde_json::{Value, json};

use crate::coast::{Coast, brightharbor, run, snapshot};

/// What a step comes to, dry and real.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum End {
    /// The same exit code, and the same change.
    Same(i32),
    /// It is carried out; whether its links hold by then, or it waits, is not for a dry run to say.
    Done,
    /// Refused with this code, before anything is shown.
    Refused(&'static str),
    /// Refused until this is consented to, and carried out with `--yes`.
    Consent(&'static str),
    /// The dry run says what would be done, and is compared by its exit code alone.
    Exit(i32),
}
use End::{Consent, Done, Exit, Refused, Same};

const PLAN: &str = "plan";
const LIVE: &[(&str, End)] = &[
    ("plan add small --addon-domains 5", Same(0)),
    ("plan add small", Refused("plan-exists")),
    ("plan change small --redirects 30", Same(0)),
    ("plan change small --redirects 30", Same(0)),
    ("account add choir --email choir@saltmarsh.example", Same(0)),
    ("account change choir --plan small", Same(0)),
    ("account change choir --reseller choir", Refused("reseller-circle")),
    ("plan remove small", Refused("plan-in-use")),
    ("zone create lanternchoir.example --account choir", Same(0)),
    ("nameserver add tide ns1.lanternchoir.example=192.0.2.53 ns2.lanternchoir.example=198.51.100.53", Same(0)),
    ("nameserver change tide --capacity 9", Same(0)),
    ("zone move lanternchoir.example --to tide", Done),
    // No nameserver is at a documentation address.
    ("nameserver change tide ns1.lanternchoir.example=127.0.0.9", Consent("server-not-ready")),
    ("nameserver remove tide", Refused("set-in-use")),
    // No zone above is known to delegate it.
    ("zone create 2.0.192.in-addr.arpa --account bakery", Consent("begins-undelegated")),
    ("zone prepare-move crumbandtide.example", Same(0)),
    ("zone prepare-move crumbandtide.example --back", Same(0)),
    ("zone load crumbandtide.example", Same(0)),
    ("zone change crumbandtide.example --soa-mailbox post@gullrock.example", Same(0)),
    ("zone realign --all", Same(0)),
    ("zone publish", Refused("no-secondaries")),
    ("record add quay.lanternchoir.example A 192.0.2.9", Same(0)),
    ("record replace quay.lanternchoir.example A 192.0.2.8", Same(0)),
    ("record remove quay.lanternchoir.example A", Same(0)),
    ("record remove quay.lanternchoir.example A", Refused("record")),
    ("attach shop.crumbandtide.example --account bakery", Done),
    ("attach shop.crumbandtide.example --account bakery", Refused("already-attached")),
    ("attach gullrock.example --account bakery --same-as crumbandtide.example", Done),
    ("site change shop.crumbandtide.example --tls 1.3", Same(0)),
    ("site change shop.crumbandtide.example", Same(0)),
    ("site change shop.crumbandtide.example --serve /tides=http://127.0.0.1:9 --listing on", Same(0)),
    ("site change shop.crumbandtide.example --serve php:8.2", Refused("unknown-php")),
    ("site change shop.crumbandtide.example --serve /nowhere=off", Refused("no-such-part")),
    ("site protect shop.crumbandtide.example --path /office --from 192.0.2.0/24", Same(0)),
    ("site protect shop.crumbandtide.example --path /office --remove-user anna", Refused("no-such-user")),
    ("site protect shop.crumbandtide.example --path /office --off", Same(0)),
    ("site protect shop.crumbandtide.example --path /office --off", Refused("not-protected")),
    ("site change shop.crumbandtide.example --serve /tides=off --listing off", Same(0)),
    // Taken back, and done again.
    ("undo", Same(0)),
    ("undo", Same(0)),
    ("undo 999", Refused("no-entry")),
    // What it takes is compared in `loading`.
    ("load /no/such/file", Refused("wrong-use")),
    ("site realign --all", Same(0)),
    ("site change shop.crumbandtide.example --account choir", Same(0)),
    ("site change shop.crumbandtide.example --account bakery", Same(0)),
    ("redirect add shop.crumbandtide.example/old /new", Same(0)),
    ("redirect add shop.crumbandtide.example/old /new", Refused("redirect-present")),
    ("redirect remove shop.crumbandtide.example/old", Same(0)),
    ("certificate issue shop.crumbandtide.example", Exit(0)),
    ("certificate renew shop.crumbandtide.example", Exit(0)),
    ("certificate request shop.crumbandtide.example", Same(0)),
    ("certificate self-sign shop.crumbandtide.example", Refused("has-better")),
    ("certificate import /no/such/file", Refused("wrong-use")),
    ("certificate install --service post", Refused("unknown-service")),
    ("certificate install --site shop.crumbandtide.example --from crumbandtide.example", Refused("not-covered")),
    ("certificate prove shop.crumbandtide.example --record", Same(0)),
    ("certificate prove shop.crumbandtide.example --remove", Same(0)),
    ("certificate revoke gullrock.example --without-successor", Same(0)),
    ("ca change-key", Same(0)),
    ("ca tell-contact", Same(0)),
    ("ca close default", Consent("closes-ca-account")),
    ("detach shop.crumbandtide.example", Same(0)),
    ("zone create harbourmaster.example --account bakery", Same(0)),
    ("zone change harbourmaster.example --mail none", Same(0)),
    ("zone change harbourmaster.example --account choir", Same(0)),
    ("zone change crumbandtide.example --account choir", Refused("zone-holds-names")),
    ("zone remove crumbandtide.example", Refused("zone-in-use")),
    ("zone remove harbourmaster.example", Same(0)),
    ("account remove bakery", Refused("account-in-use")),
    ("account remove bakery --sites detach", Same(0)),
    ("init", Refused("harbor-exists")),
];

const EDITED: &[(&str, End)] = &[
    ("site realign crumbandtide.example", Consent("replaces-hand-edit")),
    (EDIT, Exit(0)),
    ("site change crumbandtide.example", Consent("replaces-hand-edit")),
    (EDIT, Exit(0)),
    ("site change crumbandtide.example --www to-bare", Consent("replaces-hand-edit")),
    (EDIT, Exit(0)),
    ("redirect add crumbandtide.example/old /new", Consent("replaces-hand-edit")),
    (EDIT, Exit(0)),
    ("redirect remove crumbandtide.example/old", Consent("replaces-hand-edit")),
    (EDIT, Exit(0)),
    ("attach gullrock.example --account bakery --same-as crumbandtide.example", Consent("replaces-hand-edit")),
    (EDIT, Exit(0)),
    ("detach gullrock.example --zone remove", Consent("replaces-hand-edit")),
    (EDIT, Exit(0)),
    ("account remove bakery --sites detach", Consent("replaces-hand-edit")),
];

const HAND_MADE: &[(&str, End)] = &[
    ("record add crumbandtide.example TXT kept", Same(0)),
    ("account remove bakery --sites detach", Consent("removes-hand-made-records")),
];

const EMPTY: &[(&str, End)] = &[
    ("plan change small --redirects 3", Refused("unknown-plan")),
    ("plan remove small", Refused("unknown-plan")),
    ("account add bakery --email baker@saltmarsh.example", Refused("account-exists")),
    ("account change nobody --email baker@saltmarsh.example", Refused("unknown-account")),
    ("account remove nobody", Refused("unknown-account")),
    ("attach gullrock.example --account nobody", Refused("unknown-account")),
    ("attach co.uk --account bakery", Refused("public-suffix")),
    ("detach gullrock.example", Refused("not-attached")),
    ("site change gullrock.example --www none", Refused("not-attached")),
    ("redirect add gullrock.example/a /b", Refused("not-attached")),
    ("redirect remove gullrock.example/a", Refused("not-attached")),
    ("nameserver change tide --capacity 3", Refused("unknown-set")),
    ("nameserver remove host", Refused("set-in-settings")),
    ("zone create gullrock.example --account nobody", Refused("unknown-account")),
    ("zone move --all --to tide", Refused("unknown-set")),
    ("record add gullrock.example A 192.0.2.1", Refused("no-zone")),
    ("certificate issue gullrock.example", Refused("not-attached")),
    ("certificate renew gullrock.example", Refused("not-attached")),
    ("certificate request gullrock.example", Refused("not-attached")),
    ("certificate self-sign gullrock.example", Refused("not-attached")),
    ("certificate prove gullrock.example", Refused("not-attached")),
    ("certificate revoke gullrock.example", Refused("not-attached")),
    ("ca change-key", Refused("no-ca-account")),
    ("ca tell-contact reef", Refused("unknown-ca")),
    ("tend", Exit(0)),
];

/// Not a command: somebody edits the file of the bakery's site by hand.
const EDIT: &str = "(somebody edits the file)";

#[test]
fn on_a_live_harbor() {
    play(&Coast::with_bakery(), LIVE);
}

#[test]
fn where_somebody_edits_by_hand() {
    let coast = Coast::with_bakery();
    edit(&coast);
    play(&coast, EDITED);
}

#[test]
fn where_a_zone_holds_what_no_command_made() {
    play(&Coast::with_bakery(), HAND_MADE);
}

#[test]
fn on_a_harbor_without_anything() {
    play(&Coast::new(), EMPTY);
}

/// The stand-in's files begin with a brace where nobody has touched them.
fn edit(coast: &Coast) {
    let file = coast.harbor().join("servers/plain/crumbandtide.example.json");
    let text = std::fs::read_to_string(&file).unwrap();
    std::fs::write(&file, format!("\n{text}")).unwrap();
}

fn play(coast: &Coast, steps: &[(&str, End)]) {
    for (typed, end) in steps {
        if *typed == EDIT {
            edit(coast);
            continue;
        }
        let mut words: Vec<&str> = typed.split(' ').collect();
        if *words.last().unwrap() == "--record" {
            words.push("_5f3a TXT seller-check");
        }
        let dry = dry_run(coast, &words);
        let real = document(coast, &words, &[]);
        match end {
            Same(exit) => {
                assert_eq!((&dry["exit"], &real["exit"]), (&json!(exit), &json!(exit)), "{typed}: {dry} {real}");
                compare(typed, &dry, &real);
            }
            Done => {
                assert!([0, 3].contains(&dry["exit"].as_i64().unwrap()), "{typed}: {dry}");
                assert!([0, 1, 3].contains(&real["exit"].as_i64().unwrap()), "{typed}: {real}");
                assert!(real["change"]["entry"].is_i64(), "{typed}: {real}");
                compare(typed, &dry, &real);
            }
            Refused(code) => {
                assert_eq!((&dry["error"]["code"], &real["error"]["code"]), (&json!(code), &json!(code)), "{typed}");
                assert_eq!((&dry["exit"], &dry["error"]), (&real["exit"], &real["error"]), "{typed}");
            }
            Consent(code) => {
                assert_eq!((&dry["exit"], &real["exit"]), (&json!(4), &json!(4)), "{typed}: {dry} {real}");
                assert_eq!(real["error"]["code"], "consent-needed", "{typed}: {real}");
                let named: Vec<&Value> = dry["change"]["consents"].as_array().unwrap().iter().collect();
                assert!(named.iter().all(|one| one["code"] == *code) && !named.is_empty(), "{typed}: {dry}");
                assert_eq!(dry["change"]["consents"], real["error"]["consents"], "{typed}");
                let agreed = dry_run(coast, &[&words[..], &["--yes"]].concat());
                assert_eq!(agreed["exit"], 0, "{typed}: {agreed}");
                let done = document(coast, &words, &["--yes"]);
                assert!([0, 1, 3].contains(&done["exit"].as_i64().unwrap()), "{typed}: {done}");
                compare(typed, &dry, &done);
            }
            Exit(exit) => {
                assert_eq!((&dry["exit"], &real["exit"]), (&json!(exit), &json!(exit)), "{typed}: {dry} {real}");
            }
        }
    }
}

/// A dry run changes nothing at all.
fn dry_run(coast: &Coast, words: &[&str]) -> Value {
    let before = (snapshot(&coast.harbor()), snapshot(&coast.path("homes")), logbook(coast));
    let dry = document(coast, words, &["--dry-run"]);
    let after = (snapshot(&coast.harbor()), snapshot(&coast.path("homes")), logbook(coast));
    assert!(before == after, "{words:?} --dry-run has changed something: {dry}");
    dry
}

fn logbook(coast: &Coast) -> Value {
    document(coast, &["logbook"], &[])["entries"].clone()
}

fn document(coast: &Coast, words: &[&str], more: &[&str]) -> Value {
    let output = run(coast.command(&[words, more].concat()).arg("--json"));
    let value: Value = serde_json::from_str(&output.stdout).unwrap_or_else(|error| panic!("{error}: {output:?}"));
    assert_eq!(value["exit"], output.exit, "{output:?}");
    value
}

/// The same changes, consents, facts and diff; but for the moment that names a new folder.
fn compare(typed: &str, dry: &Value, real: &Value) {
    let (dry, real) = (plain(&dry[PLAN_OF]), plain(&real[PLAN_OF]));
    for member in ["changes", "consents", "diff"] {
        assert_eq!(dry[member], real[member], "{typed}: {member}");
    }
    let facts = |document: &Value| -> Vec<Value> {
        let remarks = document["remarks"].as_array().unwrap().iter().cloned();
        let without_text = |mut remark: Value| {
            let members = remark.as_object_mut().unwrap();
            members.remove("text");
            // Counted from the moment of the command.
            members.remove("old_until");
            members.remove("at");
            remark
        };
        remarks.map(without_text).collect()
    };
    assert_eq!(facts(&dry), facts(&real), "{typed}");
}

const PLAN_OF: &str = "change";

/// Without the moments in the names of folders.
fn plain(document: &Value) -> Value {
    let text = document.to_string();
    let mut plain = String::new();
    let mut rest = text.as_str();
    while let Some(at) = rest.find("/20") {
        let stamp = &rest[at + 1..];
        let is_stamp = stamp.len() > 19
            && stamp.bytes().take(19).enumerate().all(|(at, byte)| match at {
                8 | 15 => byte == b'-',
                _ => byte.is_ascii_digit(),
            });
        plain.push_str(&rest[..=at]);
        rest = if is_stamp {
            plain.push_str("MOMENT");
            &stamp[19..]
        } else {
            stamp
        };
    }
    plain.push_str(rest);
    serde_json::from_str(&plain).unwrap()
}

/// A command that can be run dry and is in none of the tables would be tried by nobody.
#[test]
fn every_command_that_changes_something_is_in_a_table() {
    let mut changing = BTreeSet::new();
    for noun in subcommands(&[]) {
        let verbs = subcommands(&[&noun]);
        let all = if verbs.is_empty() {
            vec![vec![noun.clone()]]
        } else {
            verbs.into_iter().map(|verb| vec![noun.clone(), verb]).collect()
        };
        for words in all {
            let words: Vec<&str> = words.iter().map(String::as_str).collect();
            if help(&words).contains("--dry-run") {
                changing.insert(words.join(" "));
            }
        }
    }
    assert!(changing.len() > 30 && changing.contains(&format!("{PLAN} add")), "{changing:?}");
    let tried: Vec<&str> = [LIVE, EDITED, HAND_MADE, EMPTY].concat().iter().map(|(typed, _)| *typed).collect();
    let is_tried = |command: &&String| {
        tried.iter().any(|typed| typed == &command.as_str() || typed.starts_with(&format!("{command} ")))
    };
    let missing: Vec<&String> = changing.iter().filter(|command| !is_tried(command)).collect();
    assert!(missing.is_empty(), "{missing:?}");
}

fn help(words: &[&str]) -> String {
    run(brightharbor().args(words).arg("--help")).stdout
}

fn subcommands(words: &[&str]) -> Vec<String> {
    let text = help(words);
    let Some((_, list)) = text.split_once("Commands:\n") else { return vec![] };
    let lines = list.lines().take_while(|line| line.starts_with("  "));
    let names = lines.filter_map(|line| line.strip_prefix("  ").filter(|line| !line.starts_with(' ')));
    names.filter_map(|line| line.split(' ').next()).filter(|name| *name != "help").map(String::from).collect()
}

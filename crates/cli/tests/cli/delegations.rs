//! Every finding about delegations fires on its broken world and stays silent in the good ones: the scenarios of the
//! stand-ins, each played to the real binary.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::process::Command;

use brightharbor_core::delegation::rules;
use brightharbor_standins::{Delegated, Family, SCENARIOS, Scenario, trust_anchor};
use serde_json::Value;

use crate::coast::{brightharbor, run};

fn scenarios() -> BTreeMap<String, Scenario> {
    let entries = fs::read_dir(SCENARIOS).unwrap().map(|entry| entry.unwrap().path());
    entries
        .map(|path| {
            let name = path.file_stem().unwrap().to_string_lossy().into_owned();
            let scenario = Scenario::read(&fs::read_to_string(&path).unwrap());
            (name.clone(), scenario.unwrap_or_else(|error| panic!("{name}: {error}")))
        })
        .collect()
}

/// A world with what a check needs to be asked in it.
struct Played {
    world: Delegated,
    folder: tempfile::TempDir,
}

impl Played {
    fn start(scenario: &Scenario) -> Self {
        let world = scenario.start(jiff::Timestamp::now()).unwrap();
        let folder = tempfile::tempdir().unwrap();
        fs::create_dir(folder.path().join("homes")).unwrap();
        let played = Self { world, folder };
        let address = |server: &str| played.world.address(server).unwrap();
        let settings = format!(
            "[host]\naddresses = [\"{web}\"]\nnameservers = [\"ns1.saltmarsh.example.\", \"ns2.oldquay.example.\"]\n\
             [sites]\nhome = \"{homes}/{{account}}\"\n\
             [internet]\nroot-servers = [\"{root}\"]\nresolvers = [\"127.0.0.1:9\"]\ndns-port = {port}\n\
             http-port = 9\nhttps-port = 9\n",
            web = address("provider"),
            homes = played.folder.path().join("homes").display(),
            root = address("root"),
            port = played.world.dns_port,
        );
        fs::write(played.folder.path().join("settings.toml"), settings).unwrap();
        for words in &scenario.harbor {
            let file = played.folder.path().join("settings.toml").display().to_string();
            let words = words.iter().map(|word| if word == "SETTINGS" { file.clone() } else { word.clone() });
            let done = run(played.command().args(words));
            assert!([0, 1, 3].contains(&done.exit), "{:?}: {done:?}", scenario.harbor);
        }
        played
    }

    fn command(&self) -> Command {
        let mut command = brightharbor();
        command.env("BRIGHTHARBOR", self.folder.path().join("harbor"));
        command
    }

    fn check(&self, scenario: &Scenario, more: &[&str]) -> Value {
        let mut command = self.command();
        command
            .args(["delegation", "check", "gullrock.example", "--json", "--root-server"])
            .arg(self.world.root.to_string());
        if scenario.signed {
            let anchor = self.folder.path().join("root.key");
            fs::write(&anchor, trust_anchor()).unwrap();
            command.arg("--trust-anchor").arg(anchor);
        }
        for name in &scenario.expect {
            command.args(["--expect", name]);
        }
        let done = run(command.args(more));
        serde_json::from_str(&done.stdout).unwrap_or_else(|error| panic!("{error}: {done:?}"))
    }
}

fn codes(checked: &Value) -> BTreeSet<String> {
    let findings = checked["domains"][0]["findings"].as_array().unwrap_or_else(|| panic!("{checked}"));
    let code = |finding: &Value| finding["code"].as_str().unwrap().to_string();
    let under = findings.iter().flat_map(|finding| finding["follows"].as_array().unwrap());
    findings.iter().map(code).chain(under.map(|one| format!("under its cause: {}", code(one)))).collect()
}

/// The codes of findings, and the verdict.
type Judged = (BTreeSet<String>, String);

#[test]
fn each_rule_fires_in_its_own_scenario_and_in_no_good_one() {
    let results: Vec<(String, Judged, Judged)> = std::thread::scope(|scope| {
        let all = scenarios();
        // These two are about IPv4 addresses in what they write.
        let is_fit = |name: &str| {
            Family::of_this_process() == Family::V4 || !["nameserver-out-of-place", "signature-wrong"].contains(&name)
        };
        let running: Vec<_> = all
            .into_iter()
            .filter(|(name, _)| is_fit(name))
            .map(|(name, scenario)| {
                scope.spawn(move || {
                    let played = Played::start(&scenario);
                    let mut wanted: BTreeSet<String> = scenario.fires.iter().chain(&scenario.also).cloned().collect();
                    // A rule may fire under the cause of what it sees.
                    wanted.retain(|code| !scenario.follows.contains(code));
                    wanted.extend(scenario.follows.iter().map(|code| format!("under its cause: {code}")));
                    let usual = if scenario.fires.is_some() { "risks" } else { "well" };
                    let verdict = scenario.verdict.clone().unwrap_or_else(|| usual.to_string());
                    let checked = played.check(&scenario, &[]);
                    let judged = checked["domains"][0]["verdict"].as_str().unwrap().to_string();
                    (name, (codes(&checked), judged), (wanted, verdict))
                })
            })
            .collect();
        running.into_iter().map(|thread| thread.join().unwrap()).collect()
    });
    let wrong: Vec<String> = results
        .iter()
        .filter(|(_, found, wanted)| found != wanted)
        .map(|(name, found, wanted)| format!("{name}: {found:?}, not {wanted:?}"))
        .collect();
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn waiting_says_how_it_ended_and_which_servers_of_the_parent_have_it() {
    let all = scenarios();
    let wait = |name: &str, exit: i32| {
        let played = Played::start(&all[name]);
        let wait = |more: &[&str]| {
            let mut command = played.command();
            command.args(["delegation", "wait", "gullrock.example", "--for", "1", "--expect", "ns1.saltmarsh.example"]);
            command.args(["--expect", "ns2.oldquay.example", "--root-server"]).arg(played.world.root.to_string());
            run(command.args(more))
        };
        let text = wait(&[]).expect(exit);
        let document: Value = serde_json::from_str(&wait(&["--json"]).stdout).unwrap();
        let servers = document["parent_servers"]["gullrock.example"].as_array().unwrap();
        (text, servers.iter().map(|one| one["has"].as_str().unwrap().to_string()).collect::<Vec<_>>())
    };
    let (text, has) = wait("good-unsigned", 0);
    assert!(text.starts_with("Delegated as wanted: nothing had to be waited for."), "{text}");
    assert!(text.contains("gullrock.example: all 2 servers of the parent have it"), "{text}");
    assert_eq!(has, ["wanted", "wanted"]);
    let (text, has) = wait("parents-differ-added", 3);
    assert!(text.starts_with("The time is over: after 1 s it is not delegated as wanted."), "{text}");
    assert!(
        text.contains("1 of 2 servers of the parent have it (") && text.contains("there is no such domain"),
        "{text}"
    );
    assert_eq!(has, ["nothing", "wanted"]);
    let (text, has) = wait("parents-differ", 3);
    assert!(text.contains("names a.saltmarsh.example, ns1.saltmarsh.example"), "{text}");
    assert_eq!(has, ["wanted", "other"]);
    let (_, has) = wait("parent-server-silent", 0);
    assert!(has.contains(&"unknown".to_string()), "what says nothing does not stand in the way: {has:?}");
}

/// `nameserver check` of a set with the first nameservers of gullrock.example, or with others, in a world that was altered.
fn set_checked(altered: &str, members: &[&str]) -> (i32, Value, String) {
    let start = "harbor init --settings SETTINGS\nharbor account add boatyard --email yard@saltmarsh.example\n";
    let played = Played::start(&Scenario::read(&format!("{start}{altered}")).unwrap());
    let address = |server: &str| played.world.address(server).unwrap().to_string();
    let members = members.iter().map(|one| one.replace("{ns1}", &address("ns1")).replace("{ns2}", &address("ns2")));
    run(played.command().args(["nameserver", "add", "deep"]).args(members)).expect(0);
    let create = ["zone", "create", "gullrock.example", "--account", "boatyard", "--nameserver-set", "deep", "--bare"];
    let created = run(played.command().args(create));
    assert!([0, 3].contains(&created.exit), "{created:?}");
    let text = run(played.command().args(["nameserver", "check", "deep"]));
    let checked = run(played.command().args(["nameserver", "check", "deep", "--json"]));
    let document = serde_json::from_str(&checked.stdout).unwrap_or_else(|error| panic!("{error}: {checked:?}"));
    assert_eq!(text.exit, checked.exit);
    let exit = text.exit;
    (exit, document, text.expect(exit))
}

#[test]
fn a_nameserver_is_looked_at_before_during_and_after_its_registration() {
    const USUAL: [&str; 2] = ["ns1.saltmarsh.example={ns1}", "ns2.oldquay.example={ns2}"];
    let states = |document: &Value| {
        let members = document["nameservers"].as_array().unwrap().iter();
        let word = |member: &Value, side: &str| member[side]["state"].as_str().unwrap().to_string();
        members.map(|member| [word(member, "registry"), word(member, "zone")].join("/")).collect::<Vec<_>>()
    };
    let (exit, document, text) = set_checked("", &USUAL);
    assert_eq!((exit, states(&document)), (0, vec!["complete/complete".to_string(); 2]), "{text}");

    // Before: server and zone are ready, and the registry has nothing.
    let ready = "in ns1 www A {provider} => ns8 A {ns1}\nin ns2 www A {provider} => ns8 A {ns1}\n";
    let (exit, document, text) = set_checked(ready, &["ns8.gullrock.example={ns1}"]);
    assert_eq!((exit, states(&document)), (3, vec!["absent/complete".to_string()]), "{text}");
    assert!(text.contains("1. at the registrar of gullrock.example, register the host ns8.gullrock.example with "));

    // During: one server of the registry has it.
    let (exit, document, text) = set_checked("in registry2 ns2.oldquay A {ns2} => ;\n", &USUAL);
    assert_eq!((exit, states(&document)[1].as_str()), (3, "spreading/complete"), "{text}");
    assert!(text.contains("1 of 2 servers have it") && text.contains("check again in a while"), "{text}");

    // None is needed where the name is found without the registry; and where it is not, that is a fault.
    let (exit, document, _) =
        set_checked("in registry ns2.oldquay A {ns2} => ;\nin registry2 ns2.oldquay A {ns2} => ;\n", &USUAL);
    assert_eq!((exit, states(&document)[1].as_str()), (0, "not-needed/complete"));
    let none = "in registry ns1.saltmarsh A {ns1} => ;\nin registry2 ns1.saltmarsh A {ns1} => ;\n";
    let (exit, document, text) = set_checked(none, &USUAL);
    assert_eq!((exit, states(&document)[0].as_str()), (1, "absent/complete"), "{text}");

    let second = Family::of_this_process().address([127, 88, 88], 8);
    // One of two addresses is missing on both sides, and it is named.
    let (exit, document, text) = set_checked("", &[&format!("ns1.saltmarsh.example={{ns1}},{second}"), USUAL[1]]);
    assert_eq!((exit, states(&document)[0].as_str()), (1, "differs/differs"), "{text}");
    assert!(
        text.contains(&format!("{second} missing"))
            && text.contains("give the host ns1.saltmarsh.example the addresses")
    );
    let kind = Family::of_this_process().record_type();
    let enter = format!("in the zone saltmarsh.example, add the record ns1.saltmarsh.example {kind} {second}");
    assert!(text.contains(&enter), "{text}");
    assert_eq!(document["nameservers"][0]["registry"]["servers"].as_array().unwrap().len(), 2);

    // It does not answer for the zone.
    let (exit, document, text) = set_checked("server ns2 lame\n", &USUAL);
    assert_eq!((exit, document["nameservers"][1]["holds"].as_bool()), (1, Some(false)), "{text}");
    assert!(text.contains("ns2.oldquay.example must answer for gullrock.example at"), "{text}");
}

#[test]
fn every_rule_has_its_scenario() {
    let fired: BTreeSet<String> =
        scenarios().into_iter().filter(|(name, s)| s.fires.as_ref() == Some(name)).map(|(name, _)| name).collect();
    // Silent in closed networks, such as these worlds; its tests are in core.
    let closed = |code: &str| code == "one-network";
    let rules: BTreeSet<String> =
        rules::ALL.iter().filter(|rule| !closed(rule.text.code)).map(|rule| rule.text.code.to_string()).collect();
    assert_eq!(rules.difference(&fired).collect::<Vec<_>>(), Vec::<&String>::new());
}

#[test]
fn what_was_saved_is_judged_again_without_a_network() {
    let scenario = Scenario::read("signed\nserver ns2 no-tcp\n").unwrap();
    let played = Played::start(&scenario);
    let file = played.folder.path().join("seen.jsonl");
    let name = file.to_str().unwrap();
    let seen = played.check(&scenario, &["--save", name]);
    let again = run(played.command().args(["delegation", "check", "--json", "--from", name]));
    let again: Value = serde_json::from_str(&again.stdout).unwrap();
    assert_eq!(codes(&seen), BTreeSet::from(["server-without-tcp".to_string()]));
    assert_eq!(seen["domains"][0]["findings"], again["domains"][0]["findings"]);
    assert_eq!(seen["domains"][0]["comparison"], again["domains"][0]["comparison"]);
    // It is never overwritten, and nothing else is taken for it.
    let twice = ["delegation", "check", "gullrock.example", "--root-server", "127.0.0.1:9", "--save", name];
    assert_eq!(run(played.command().args(twice)).exit, 4);
    fs::write(&file, "{\"format\": 1}\n").unwrap();
    let spoilt = run(played.command().args(["delegation", "check", "--from", name]));
    assert!(spoilt.exit == 2 && spoilt.stderr.contains("seen.jsonl:1"), "{spoilt:?}");
    // Nor is anything taken for a key of the root.
    let anchors = ["delegation", "check", "gullrock.example", "--trust-anchor", name, "--json"];
    let refused: Value = serde_json::from_str(&run(played.command().args(anchors)).stdout).unwrap();
    assert_eq!(refused["error"]["code"], "trust-anchors", "{refused}");
    assert!(refused["error"]["message"].as_str().unwrap().contains("seen.jsonl: line 1"), "{refused}");
}

#[test]
fn zones_begin_where_the_dns_says_and_not_where_a_list_guesses() {
    // Registered below a name that is no zone; and a subdomain that is somebody else's.
    let cuts = "add registry windlass.co NS ns1.saltmarsh.example.\nadd registry2 windlass.co NS ns1.saltmarsh.example.\n\
                add registry keel.co NS ns1.saltmarsh.example.\nadd registry2 keel.co NS ns1.saltmarsh.example.\n\
                add ns1 lab NS ns2.oldquay.example.\nadd ns2 lab NS ns2.oldquay.example.\n";
    let played = Played::start(&Scenario::read(cuts).unwrap());
    let settings = played.folder.path().join("settings.toml").display().to_string();
    for words in
        [vec!["init", "--settings", &settings], vec!["account", "add", "yard", "--email", "a@saltmarsh.example"]]
    {
        let done = run(played.command().args(&words));
        assert!([0, 3].contains(&done.exit), "{done:?}");
    }
    let checked = |name: &str| {
        let done = run(played.command().args(["delegation", "check", name, "--json"]));
        let document: Value = serde_json::from_str(&done.stdout).unwrap_or_else(|error| panic!("{error}: {done:?}"));
        document["domains"][0]["domain"].as_str().unwrap_or_else(|| panic!("{document}")).to_string()
    };
    for (typed, zone) in [
        ("windlass.co.example", "windlass.co.example"),
        ("www.windlass.co.example", "windlass.co.example"),
        ("lab.gullrock.example", "lab.gullrock.example"),
        ("a.lab.gullrock.example", "lab.gullrock.example"),
        ("www.gullrock.example", "gullrock.example"),
        ("www.notyet.example", "notyet.example"),
    ] {
        assert_eq!(checked(typed), zone, "{typed}");
    }
    // A look at a name that is not attached begins at the zone that it really lies in.
    for (typed, zone) in
        [("www.windlass.co.example", "windlass.co.example"), ("a.lab.gullrock.example", "lab.gullrock.example")]
    {
        let done = run(played.command().args(["survey", typed, "--json"]));
        let document: Value = serde_json::from_str(&done.stdout).unwrap_or_else(|error| panic!("{error}: {done:?}"));
        let registered = &document["surveys"][0]["links"][0];
        assert_eq!(registered["state"], "holds", "{document:#}");
        assert!(registered["because"].as_str().unwrap().ends_with(&format!("delegates {zone}")), "{registered}");
    }
    let create = |name: &str| run(played.command().args(["zone", "create", name, "--account", "yard", "--json"]));
    for name in ["windlass.co.example", "lab.gullrock.example"] {
        let done = create(name);
        assert_eq!(done.exit, 0, "{name}: {done:?}");
    }
    let unseen: Value = serde_json::from_str(&create("www.gullrock.example").stdout).unwrap();
    assert_eq!(unseen["error"]["consents"][0]["code"], "begins-undelegated", "{unseen}");
    let refused: Value = serde_json::from_str(&create("a.lab.gullrock.example").stdout).unwrap();
    assert_eq!(refused["error"]["code"], "no-cut", "{refused}");
    assert_eq!(refused["error"]["above"], "lab.gullrock.example", "{refused}");
    // The same for what is attached: a zone of its own where the DNS shows one, a subdomain where it does not.
    let attach = |name: &str| {
        let done = run(played.command().args(["attach", name, "--account", "yard", "--bare", "--json"]));
        serde_json::from_str::<Value>(&done.stdout).unwrap_or_else(|error| panic!("{error}: {done:?}"))
    };
    let attached = attach("keel.co.example").to_string();
    assert!(
        attached.contains("zones/keel.co.example.zone") && !attached.contains("zones/co.example.zone"),
        "{attached}"
    );
    let elsewhere = attach("shop.oldquay.example").to_string();
    assert!(elsewhere.contains("zone oldquay.example is not in this harbor"), "{elsewhere}");
    // A record goes into the closest zone; a name in it is looked at with that zone's nameservers.
    let added = run(played.command().args(["record", "add", "www.lab.gullrock.example", "A", "192.0.2.7", "--json"]));
    assert!(added.exit == 0 && added.stdout.contains("lab.gullrock.example.zone"), "{added:?}");
    let survey = run(played.command().args(["survey", "www.lab.gullrock.example", "--json"]));
    assert!(survey.stdout.contains("gullrock.example delegates lab.gullrock.example"), "{survey:?}");
}

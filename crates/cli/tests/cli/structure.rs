//! What the parts may know of each other, checked on the sources: decisions are made in core, files are touched in few
//! places, and no command is built on another one.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

/// The sources below a folder of this crate, with the path from `src`, without their tests and comments.
fn sources(folder: &str) -> Vec<(String, String)> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let mut found = vec![];
    collect(&root.join(folder), &mut found);
    let named = |path: PathBuf| {
        let text = std::fs::read_to_string(&path).unwrap();
        let code = text.split("#[cfg(test)]\nmod tests").next().unwrap_or_default();
        let lines = code.lines().filter(|line| !line.trim_start().starts_with("//"));
        (path.strip_prefix(&root).unwrap().display().to_string(), lines.collect::<Vec<_>>().join("\n"))
    };
    let mut named: Vec<_> = found.into_iter().map(named).collect();
    named.sort();
    named
}

fn collect(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        match path.is_dir() {
            true => collect(&path, found),
            false if path.extension().is_some_and(|end| end == "rs") => found.push(path),
            false => {}
        }
    }
}

/// The files that name any of these.
fn naming(words: &[&str]) -> BTreeSet<String> {
    let names = |(_, code): &(String, String)| words.iter().any(|word| code.contains(word));
    sources("").into_iter().filter(names).map(|(path, _)| path).collect()
}

#[test]
fn no_change_is_made_up_where_it_is_shown() {
    assert_eq!(naming(&["ChangeSet::new"]), BTreeSet::new());
    // It puts every change into words, and makes none.
    let words = BTreeSet::from(["show/words/change.rs".to_string()]);
    assert_eq!(naming(&["InventoryChange", "FileWrite"]), words);
}

#[test]
fn files_are_touched_in_few_places() {
    // The journal is known by what stderr leads to.
    let few = ["commands/demo/story.rs", "files.rs", "journal.rs"].map(String::from);
    assert_eq!(naming(&["std::fs", "tokio::fs", "OpenOptions"]), BTreeSet::from(few));
}

/// A command has a `pub fn run`, or `add`, and the like, that takes its arguments; what several share is elsewhere.
#[test]
fn no_command_is_built_on_another_one() {
    let commands: Vec<(String, String)> =
        sources("commands").into_iter().filter(|(path, _)| !path.ends_with("mod.rs")).collect();
    let is_command = |code: &str| code.lines().any(|line| line.starts_with("pub fn ") && line.ends_with("-> Report {"));
    let modules: Vec<String> = commands
        .iter()
        .filter(|(_, code)| is_command(code))
        .map(|(path, _)| path.trim_end_matches(".rs").replace('/', "::"))
        .collect();
    assert!(modules.len() > 30, "commands are recognised: {modules:?}");
    let mut bad = vec![];
    for (path, code) in &commands {
        let folder = path.rsplit_once('/').map_or("commands", |(folder, _)| folder).replace('/', "::");
        let code = code.replace("super::", &format!("crate::{folder}::"));
        let imports = |module: &&String| code.contains(&format!("crate::{module}::"));
        bad.extend(modules.iter().filter(imports).map(|module| format!("{path}: {module}")));
    }
    assert!(bad.is_empty(), "{bad:#?}");
    let upwards: Vec<String> = ["show", "error"]
        .iter()
        .flat_map(|folder| sources(folder))
        .filter(|(_, code)| code.contains("crate::commands::"))
        .map(|(path, _)| path)
        .collect();
    assert!(upwards.is_empty(), "what is shown does not know the commands: {upwards:?}");
}

/// What no test can bring about, with the reason.
const UNASSERTED: &[(&str, &str)] = &[
    ("ca-at-work", "a CA that works on an order for minutes; the wait is tested where it is decided, in core"),
    ("not-reached", "what a CA cannot reach is seen before it is asked; tested where it is decided, in io"),
    ("busy", "waits for a minute; the wait itself is tested"),
    ("changed-meanwhile", "between reading and writing, within one command; tested where it is decided, in io"),
    ("declined", "needs a terminal"),
    ("detached", "between two steps of one command"),
    (
        "former-zone",
        "DNS records of every form that the codec gives can be written; tested where it is decided, in core",
    ),
    ("keeps-changing", "needs a change at each of several moments; tested where it is decided, in io"),
    ("no-server", "the servers are installed wherever the tests run"),
    ("not-as-expected", "a fault of the demo"),
    ("not-asked", "a fault of this program"),
    ("output", "nothing can be read where nothing can be written; its exit code is tested"),
    ("out-of-zone", "refused before, where it is typed"),
    ("runtime", "a machine without sockets"),
    ("walk", "a fault of this program"),
    ("certificate-unreadable", "a race with somebody who removes files; tested where it is decided, in core"),
    ("wrong-number-of-values", "no argument takes a number of values that can be wrong"),
];

#[test]
fn every_code_is_explained_and_every_refusal_is_asserted() {
    let listed = listed_codes();
    let cli = sources("");
    let in_words = |file: &str| file.starts_with("show/words/");
    let mut refusals = BTreeSet::new();
    let mut remarks = BTreeSet::new();
    for (file, code) in &cli {
        let strict = ["refused(", "Exit::WrongUse, ", "Exit::RolledBack, ", "Exit::Fault, "];
        refusals.extend(literals(code, |before| strict.iter().any(|end| before.ends_with(end))));
        if file.starts_with("error/") || file == "usage.rs" {
            refusals.extend(literals(code, |before| before.ends_with("=> (") || before.ends_with("{ (")));
            let of_arms = literals(code, |before| before.ends_with("=> ") || before.ends_with("{ "));
            refusals.extend(of_arms.into_iter().filter(|literal| literal.contains('-')));
        }
        if in_words(file) {
            remarks.extend(literals(code, |before| before.ends_with("Told::act(") || before.ends_with("Told::fact(")));
        }
    }
    let core = |file: &str| {
        let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../core/src").join(file);
        std::fs::read_to_string(path).unwrap().split("#[cfg(test)]").next().unwrap().to_string()
    };
    for file in ["course", "outcome"] {
        let text = core(&format!("certificate/securing/{file}.rs"));
        refusals.extend(literals(&text, |before| before.ends_with("code: ")));
    }
    // Why a CA has issued nothing.
    let orders = Path::new(env!("CARGO_MANIFEST_DIR")).join("../io/src/secure/orders.rs");
    let orders = std::fs::read_to_string(orders).unwrap().split("#[cfg(test)]").next().unwrap().to_string();
    refusals.extend(literals(&orders, |before| before.ends_with("=> ") || before.ends_with("{ ")));
    let consents = literals(&core("change/consent.rs"), |before| before.ends_with("=> "));
    let mut links = BTreeSet::new();
    for file in ["answers", "delegated", "lands", "mod", "resolves", "secure"] {
        let text = core(&format!("survey/{file}.rs"));
        links.extend(literals(&text, |before| {
            let state = before.rsplit_once("LinkState::").map(|(_, state)| state);
            state.is_some_and(|state| state.ends_with(", ") && !state.contains([';', '=', '"', '{']))
                || before.ends_with("=> (")
                || before.ends_with("{ (")
        }));
    }
    for (kind, found) in [("refusal", &refusals), ("remark", &remarks), ("consent", &consents), ("link", &links)] {
        let listed: BTreeSet<String> =
            listed.iter().filter(|(of, _)| of == kind).map(|(_, code)| code.clone()).collect();
        let missing: Vec<_> = found.difference(&listed).collect();
        let idle: Vec<_> = listed.difference(found).collect();
        assert!(missing.is_empty() && idle.is_empty(), "{kind}: not in codes.rs {missing:?}, in no source {idle:?}");
    }
    let stale: Vec<_> = UNASSERTED.iter().filter(|(code, _)| !refusals.contains(*code)).collect();
    assert!(stale.is_empty(), "excused, and no refusal: {stale:?}");
    let mut tests = vec![];
    collect(&Path::new(env!("CARGO_MANIFEST_DIR")).join("tests"), &mut tests);
    tests.retain(|path| !path.ends_with("structure.rs"));
    let texts: Vec<String> = tests.iter().map(|path| std::fs::read_to_string(path).unwrap()).collect();
    let is_asserted = |code: &str| texts.iter().any(|text| text.contains(&format!("\"{code}\"")));
    let excused = |code: &str| UNASSERTED.iter().any(|(excused, _)| *excused == code);
    let unasserted: Vec<&String> = refusals.iter().filter(|code| !is_asserted(code) && !excused(code)).collect();
    assert!(unasserted.is_empty(), "refusals that no interface test asserts: {unasserted:?}");
}

/// Kind and code, as `explain` lists them.
fn listed_codes() -> Vec<(String, String)> {
    let output = crate::coast::run(crate::coast::brightharbor().args(["explain", "--json"]));
    let document: serde_json::Value = serde_json::from_str(&output.stdout).unwrap();
    let text = |one: &serde_json::Value, member: &str| one[member].as_str().unwrap().to_string();
    document["codes"].as_array().unwrap().iter().map(|one| (text(one, "kind"), text(one, "code"))).collect()
}

/// The words in quotes that stand after something; blanks and line breaks count as one blank, or none after `(`.
fn literals(code: &str, stands_after: impl Fn(&str) -> bool) -> BTreeSet<String> {
    let folded = code.split_whitespace().collect::<Vec<_>>().join(" ").replace("( \"", "(\"");
    let mut found = BTreeSet::new();
    for (at, _) in folded.match_indices('"') {
        let Some(word) = folded[at + 1..].split('"').next() else { continue };
        let is_code = !word.is_empty() && word.bytes().all(|byte| byte.is_ascii_lowercase() || byte == b'-');
        if is_code && stands_after(&folded[..at]) {
            found.insert(word.to_string());
        }
    }
    found
}

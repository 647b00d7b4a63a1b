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
    let few = ["commands/demo/story.rs", "files.rs"].map(String::from);
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

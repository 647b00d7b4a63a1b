//! Every document of `--json` that any test gets is held against docs/schemas/ (JSON Schema 2020-12): a member that is
//! missing, of another type, or unknown there fails the test. `scripts/schemas` writes the folder anew from all documents
//! of a run; what it changes is a change of the contract, to be looked at.

use std::collections::{BTreeMap, HashMap};
use std::fs;
use std::io::Write;
use std::path::PathBuf;
use std::sync::LazyLock;

use boon::{Compiler, SchemaIndex, Schemas};
use serde_json::{Map, Value, json};

fn folder() -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../docs/schemas")
}

/// Where documents are collected instead, one a line.
const COLLECTED: &str = "BRIGHTHARBOR_TEST_DOCUMENTS";

/// Checks the standard output of a run, if it is a document.
#[track_caller]
pub fn check(stdout: &str) {
    let Ok(document) = serde_json::from_str::<Value>(stdout) else { return };
    if document.get("format").is_none() {
        return;
    }
    if let Ok(file) = std::env::var(COLLECTED) {
        let line = format!("{document}\n");
        let mut file = fs::OpenOptions::new().append(true).create(true).open(file).unwrap();
        return file.write_all(line.as_bytes()).unwrap();
    }
    let name = name_of(&document);
    let index = COMPILED.by_name.get(&name);
    let index = index.unwrap_or_else(|| panic!("docs/schemas has no {name}.json; run scripts/schemas"));
    if let Err(error) = COMPILED.schemas.validate(&document, *index) {
        panic!("{name}: {error:#}\n{document}");
    }
}

/// What its schema is called: by its command; what is refused looks alike for all.
fn name_of(document: &Value) -> String {
    match document["command"].as_str() {
        Some(command) if document.get("error").is_none() => command.replace(' ', "-"),
        _ => "error".into(),
    }
}

struct Compiled {
    schemas: Schemas,
    by_name: HashMap<String, SchemaIndex>,
}

static COMPILED: LazyLock<Compiled> = LazyLock::new(|| {
    let (mut schemas, mut compiler, mut names) = (Schemas::new(), Compiler::new(), Vec::new());
    for entry in fs::read_dir(folder()).expect("docs/schemas is there").flatten() {
        let file = entry.file_name().into_string().unwrap();
        let Some(name) = file.strip_suffix(".json") else { continue };
        let schema: Value = serde_json::from_slice(&fs::read(entry.path()).unwrap()).unwrap();
        compiler.add_resource(&address(name), schema).unwrap();
        names.push(name.to_string());
    }
    let index = |name: String| {
        let index = compiler.compile(&address(&name), &mut schemas).unwrap_or_else(|error| panic!("{name}: {error:#}"));
        (name, index)
    };
    let by_name = names.into_iter().filter(|name| name != PARTS_FILE).map(index).collect();
    Compiled { schemas, by_name }
});

const PARTS_FILE: &str = "parts";

fn address(name: &str) -> String {
    format!("https://schemas.invalid/{name}.json")
}

/// Members by which the same thing stands in several documents, and what it is called there; an item of a list ends in `[]`.
const PARTS: &[(&str, &str)] = &[
    ("change", "change"),
    ("findings[]", "finding"),
    ("surveys[]", "survey"),
    ("spreads[]", "spread"),
    ("notified", "notified"),
    ("secured[]", "secured"),
    ("certificate", "certificate"),
    ("watched", "watched"),
    ("limits", "limits"),
];

/// Objects whose members are names or codes, and not of the contract.
const MAPS: &[&str] = &["reasons", "would_lose"];

/// Objects with further members, each code with its own.
const OPEN: &[&str] = &["error", "remarks[]", "consents[]", "changes[]"];

/// What was seen at one place of all documents.
#[derive(Debug, Default, Clone)]
struct Seen {
    scalars: std::collections::BTreeSet<&'static str>,
    objects: usize,
    members: BTreeMap<String, (usize, Seen)>,
    items: Option<Box<Seen>>,
}

impl Seen {
    fn see(&mut self, value: &Value) {
        match value {
            Value::Null => drop(self.scalars.insert("null")),
            Value::Bool(_) => drop(self.scalars.insert("boolean")),
            Value::Number(number) if number.is_f64() => drop(self.scalars.insert("number")),
            Value::Number(_) => drop(self.scalars.insert("integer")),
            Value::String(_) => drop(self.scalars.insert("string")),
            Value::Array(items) => {
                let seen = self.items.get_or_insert_default();
                items.iter().for_each(|item| seen.see(item));
            }
            Value::Object(members) => {
                self.objects += 1;
                for (name, member) in members {
                    let (count, seen) = self.members.entry(name.clone()).or_default();
                    *count += 1;
                    seen.see(member);
                }
            }
        }
    }

    fn merge(&mut self, other: &Seen) {
        self.scalars.extend(&other.scalars);
        self.objects += other.objects;
        for (name, (count, seen)) in &other.members {
            let (sum, mine) = self.members.entry(name.clone()).or_default();
            *sum += count;
            mine.merge(seen);
        }
        if let Some(items) = &other.items {
            self.items.get_or_insert_default().merge(items);
        }
    }

    /// As a schema; `name` is that of the member, and of its list with `[]`.
    fn schema(&self, name: &str, parts: &mut BTreeMap<&'static str, Seen>) -> Value {
        if let Some((_, part)) = PARTS.iter().find(|(member, _)| *member == name && self.objects > 0) {
            parts.entry(part).or_default().merge(self);
            let part = json!({ "$ref": format!("{PARTS_FILE}.json#/$defs/{part}") });
            return match self.scalars.contains("null") {
                true => json!({ "anyOf": [part, { "type": "null" }] }),
                false => part,
            };
        }
        self.own_schema(name, parts)
    }

    fn own_schema(&self, name: &str, parts: &mut BTreeMap<&'static str, Seen>) -> Value {
        let mut schema = Map::new();
        let mut types: Vec<&str> = self.scalars.iter().copied().collect();
        if types.contains(&"number") {
            types.retain(|kind| *kind != "integer");
        }
        if self.objects > 0 {
            types.push("object");
            // Of what is open, what each has: the rest depends on its code.
            let is_open = OPEN.contains(&name);
            let listed = self.members.iter().filter(|(_, (count, _))| !is_open || *count == self.objects);
            let members: Map<String, Value> =
                listed.map(|(name, (_, seen))| (name.clone(), seen.schema(name, parts))).collect();
            if MAPS.contains(&name) {
                let mut any = Seen::default();
                self.members.values().for_each(|(_, seen)| any.merge(seen));
                schema.insert("additionalProperties".into(), any.schema("", parts));
            } else {
                let always = self.members.iter().filter(|(_, (count, _))| *count == self.objects);
                let always: Vec<&String> = always.map(|(name, _)| name).collect();
                schema.insert("properties".into(), members.into());
                schema.insert("required".into(), json!(always));
                schema.insert("additionalProperties".into(), is_open.into());
            }
        }
        if let Some(items) = &self.items {
            types.push("array");
            schema.insert("items".into(), items.schema(&format!("{name}[]"), parts));
        }
        match types[..] {
            // Empty lists alone tell nothing of their items.
            [] => {}
            // So far; most of what may be missing is text.
            ["null"] => drop(schema.insert("type".into(), json!(["null", "string"]))),
            [one] => drop(schema.insert("type".into(), one.into())),
            _ => drop(schema.insert("type".into(), json!(types))),
        }
        schema.into()
    }
}

const DIALECT: &str = "https://json-schema.org/draft/2020-12/schema";

#[test]
#[ignore = "writes docs/schemas; run by scripts/schemas"]
fn schemas_are_written_from_documents() {
    let collected = fs::read_to_string(std::env::var(COLLECTED).expect("scripts/schemas names the file")).unwrap();
    let mut by_name: BTreeMap<String, Seen> = BTreeMap::new();
    for line in collected.lines() {
        let document: Value = serde_json::from_str(line).unwrap();
        by_name.entry(name_of(&document)).or_default().see(&document);
    }
    let mut parts = BTreeMap::new();
    let mut written: BTreeMap<String, Value> = BTreeMap::new();
    for (name, seen) in &by_name {
        let mut schema = seen.schema("", &mut parts);
        schema["$schema"] = DIALECT.into();
        schema["title"] = format!("brightharbor {} --json", name.replace('-', " ")).into();
        schema["properties"]["format"] = json!({ "const": 1 });
        schema["properties"]["exit"] = json!({ "enum": [0, 1, 2, 3, 4, 5] });
        if name == "error" {
            schema["title"] = "A command that was refused, or failed".into();
        } else {
            schema["properties"]["command"] = json!({ "const": by_name_to_command(name, &collected) });
        }
        written.insert(name.clone(), schema);
    }
    // Parts may have parts of their own.
    let mut defined: BTreeMap<&str, Value> = BTreeMap::new();
    while let Some((name, seen)) = parts.iter().find(|(name, _)| !defined.contains_key(*name)) {
        let (name, seen) = (*name, seen.clone());
        let member = PARTS.iter().find(|(_, part)| *part == name).map_or("", |(member, _)| member);
        let objects = Seen { scalars: Default::default(), ..seen };
        let schema = objects.own_schema(member, &mut parts);
        defined.insert(name, schema);
    }
    written.insert(PARTS_FILE.into(), json!({ "$schema": DIALECT, "$defs": defined }));
    fs::create_dir_all(folder()).unwrap();
    for (name, schema) in written {
        fs::write(folder().join(format!("{name}.json")), format!("{schema:#}\n")).unwrap();
    }
}

/// The command as it is typed.
fn by_name_to_command(name: &str, collected: &str) -> String {
    let documents = collected.lines().map(|line| serde_json::from_str::<Value>(line).unwrap());
    let mut commands = documents.filter_map(|document| document["command"].as_str().map(String::from));
    commands.find(|command| command.replace(' ', "-") == name).unwrap()
}

/// Guards against a check that cannot fail.
#[test]
fn a_document_that_lacks_a_member_or_has_another_is_found() {
    if std::env::var(COLLECTED).is_ok() {
        return;
    }
    let good = json!({ "command": "report", "format": 1, "exit": 0, "to": "/srv/report", "pages": 2, "hostnames": 3,
                       "broken": null, "waiting": 1 });
    check(&good.to_string());
    let spoilt = |change: &dyn Fn(&mut Value)| {
        let mut document = good.clone();
        change(&mut document);
        std::panic::catch_unwind(|| check(&document.to_string())).is_err()
    };
    assert!(spoilt(&|document| drop(document.as_object_mut().unwrap().remove("pages"))));
    assert!(spoilt(&|document| document["sides"] = json!(2)));
    assert!(spoilt(&|document| document["pages"] = json!("two")));
    assert!(spoilt(&|document| document["exit"] = json!(9)));
    assert!(spoilt(&|document| document["command"] = json!("reports")));
}

/// Commands whose documents are those of another.
const SHARED: &[(&str, &str)] = &[("certificate-renew", "certificate-issue")];

#[test]
fn every_command_has_a_schema() {
    use crate::coast::{Coast, brightharbor};
    let coast = Coast::with_bakery();
    for line in [
        "plan add small --redirects 9",
        "plan show small",
        "plan add full --addon-domains 1 --subdomains 2 --alias-domains 3 --redirects 4 --disk 5 --scripts 6 --script-memory 8",
        "plan show full",
        "plan remove small",
        "nameserver add tide ns1.lanternchoir.example=192.0.2.53 ns2.lanternchoir.example=198.51.100.53",
        "nameserver remove tide",
        "redirect add crumbandtide.example/old https://crumbandtide.example/new",
        "redirect show crumbandtide.example/old",
        "attach gullrock.example --account bakery",
        "certificate self-sign gullrock.example",
    ] {
        coast.done_or_not(&line.split(' ').collect::<Vec<_>>());
    }
    assert_eq!(crate::coast::run(brightharbor().args(["demo", "--json"])).exit, 0);
    let to = coast.path("share");
    coast.run(&["manual", "--to", to.to_str().unwrap()]).expect(0);
    let schemas: Vec<String> = fs::read_dir(folder())
        .unwrap()
        .map(|entry| entry.unwrap().file_name().into_string().unwrap().replace(".json", ""))
        .collect();
    // A page for each command; those that only hold others have some below them.
    let pages: Vec<String> = fs::read_dir(to.join("man/man1"))
        .unwrap()
        .filter_map(|entry| entry.unwrap().file_name().into_string().unwrap().strip_suffix(".1").map(String::from))
        .filter_map(|page| page.strip_prefix("brightharbor-").map(String::from))
        .collect();
    let holds_others = |page: &String| pages.iter().any(|other| other.starts_with(&format!("{page}-")));
    let of = |page: &String| {
        SHARED.iter().find(|(name, _)| name == page).map_or(page.clone(), |(_, as_in)| as_in.to_string())
    };
    let missing: Vec<&String> =
        pages.iter().filter(|page| !holds_others(page) && !schemas.contains(&of(page))).collect();
    assert!(pages.len() > 50, "{pages:?}");
    if std::env::var(COLLECTED).is_err() {
        assert!(missing.is_empty(), "no schema: {missing:?}");
    }
}

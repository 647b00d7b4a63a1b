//! The words for what the core tells by types: remarks, consents and changes, each with its code and its facts for
//! programs. One file a topic; nothing else makes sentences of them.

mod account;
mod certificate;
mod change;
mod consent;
mod nameserver;
mod redirect;
mod site;
mod zone;

use brightharbor_core::change::Remark;
use brightharbor_core::name::Host;
use serde_json::{Map, Value};

pub use account::{limit_words, limits_document};
pub use certificate::service_problem;
pub use change::{change_document, change_line, errand_line};
pub use consent::consent;
pub use nameserver::weak as weakness;
pub use redirect::source_words;
pub use site::{content_words, https_by_state, https_word, www_words};

/// One thing to report: in words for people, and by code and facts for programs.
#[derive(Debug, Clone, PartialEq)]
pub struct Told {
    pub code: &'static str,
    pub facts: Map<String, Value>,
    words: Words,
    /// More than a sentence, such as a diff; mostly empty.
    pub detail: String,
}

#[derive(Debug, Clone, PartialEq)]
enum Words {
    /// What the command did, or would do: `Created account bakery`, `Would create account bakery`.
    Act { past: &'static str, base: &'static str, what: String },
    /// What holds, whether something is done or not.
    Fact(String),
}

impl Told {
    fn act(code: &'static str, past: &'static str, base: &'static str, what: impl Into<String>) -> Self {
        let words = Words::Act { past, base, what: what.into() };
        Self { code, facts: Map::new(), words, detail: String::new() }
    }

    fn fact(code: &'static str, words: impl Into<String>) -> Self {
        Self { code, facts: Map::new(), words: Words::Fact(words.into()), detail: String::new() }
    }

    fn with(mut self, name: &str, value: impl Into<Value>) -> Self {
        self.facts.insert(name.to_string(), value.into());
        self
    }

    fn detail(mut self, detail: String) -> Self {
        self.detail = detail;
        self
    }

    /// What was done, without the full stop.
    pub fn sentence(&self) -> String {
        match &self.words {
            Words::Act { past, what, .. } => format!("{past} {what}"),
            Words::Fact(words) => words.clone(),
        }
    }

    /// What would be done.
    pub fn would(&self) -> String {
        match &self.words {
            Words::Act { base, what, .. } => format!("Would {base} {what}"),
            Words::Fact(words) => words.clone(),
        }
    }

    /// For programs: code, facts, and the words beside them.
    pub fn document(&self, done: bool) -> Value {
        let mut all = self.facts.clone();
        all.insert("code".into(), self.code.into());
        all.insert("text".into(), if done { self.sentence() } else { self.would() }.into());
        Value::Object(all)
    }
}

/// A remark of a plan.
pub fn remark(remark: &Remark) -> Told {
    match remark {
        Remark::Unchanged => Told::fact("unchanged", "Nothing to change: everything is as asked for"),
        Remark::TakenBack { entry, title, stays } => {
            let left = match &stays[..] {
                [] => String::new(),
                stays => format!("; what stays: {}", some_of(stays)),
            };
            Told::act("taken-back", "Took back", "take back", format!("entry {entry}, `{title}`{left}"))
                .with("entry", *entry)
                .with("title", title.as_str())
                .with("stays", stays.clone())
        }
        Remark::Taken(words) => Told::fact("taken", words.clone()),
        Remark::Account(remark) => account::told(remark),
        Remark::Certificate(remark) => certificate::told(remark),
        Remark::Nameserver(remark) => nameserver::told(remark),
        Remark::Redirect(remark) => redirect::told(remark),
        Remark::Site(remark) => site::told(remark),
        Remark::Zone(remark) => zone::told(remark),
    }
}

/// A name as people read it: in its own script where it has one, with the form that is typed elsewhere.
pub fn host_words(host: &Host) -> String {
    let international = host.international();
    if international == host.as_str() { international } else { format!("{international} ({host})") }
}

/// The first few, and how many more there are.
fn some_of(names: &[String]) -> String {
    const MOST: usize = 4;
    match names.len() {
        ..=MOST => listed(names),
        all => format!("{} and {} more", names[..MOST].join(", "), all - MOST),
    }
}

/// `a, b and c`.
pub fn listed(names: &[String]) -> String {
    match names {
        [] => String::new(),
        [only] => only.clone(),
        [others @ .., last] => format!("{} and {last}", others.join(", ")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_would_be_done_is_not_told_as_done() {
        let told = Told::act("account-created", "Created", "create", "account bakery").with("account", "bakery");
        assert_eq!(told.sentence(), "Created account bakery");
        assert_eq!(told.would(), "Would create account bakery");
        let document = told.document(false);
        assert_eq!((&document["code"], &document["account"]), (&"account-created".into(), &"bakery".into()));
        assert_eq!(document["text"], "Would create account bakery");
        assert_eq!(listed(&["a", "b", "c"].map(String::from)), "a, b and c");
    }
}

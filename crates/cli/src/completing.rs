//! What shells are told when somebody presses Tab: commands and options, and the names of this harbor.
//!
//! The shell starts the program with a variable set (`manual` writes the few lines that tell it to); nothing is printed but
//! suggestions, and an error gives none.

use std::ffi::{OsStr, OsString};
use std::path::PathBuf;

use brightharbor_core::explain::all_rule_texts;
use brightharbor_core::harbor::Layout;
use brightharbor_io::store::{Named, Store};
use clap::{Arg, Command};
use clap_complete::CompleteEnv;
use clap_complete::engine::{ArgValueCompleter, CompletionCandidate};

use crate::help;
use crate::show::codes::Kind;

/// The variable by which a shell asks; its value is the shell's name.
pub const VARIABLE: &str = "BRIGHTHARBOR_COMPLETE";

/// What nobody reads to its end.
const MOST: usize = 200;

/// Answers a shell, if this is one that asks.
pub fn complete() -> bool {
    std::env::var_os(VARIABLE).is_some()
        && CompleteEnv::with_factory(|| with_names(help::command(), ""))
            .var(VARIABLE)
            .try_complete(std::env::args_os(), None)
            .unwrap_or(true)
}

/// Each argument that is a name of something gets what there is of it.
fn with_names(command: Command, above: &str) -> Command {
    let own = command.get_name().to_string();
    let command = command.mut_args(|arg| match suggested(&arg, above) {
        Some(Suggested::Names(kind)) => arg.add(ArgValueCompleter::new(move |typed: &OsStr| names(kind, typed))),
        Some(Suggested::Codes) => arg.add(ArgValueCompleter::new(codes)),
        None => arg,
    });
    command.mut_subcommands(|sub| with_names(sub, &own))
}

#[derive(Debug, PartialEq, Eq)]
enum Suggested {
    Names(Named),
    Codes,
}

/// What an argument is a name of, by what it is called; `NAME` is that of what the commands are about.
fn suggested(arg: &Arg, above: &str) -> Option<Suggested> {
    let called = arg.get_value_names()?.first()?.as_str();
    let kind = match (called, above) {
        ("CODE", _) => return Some(Suggested::Codes),
        ("HOSTNAME" | "HOSTNAMES" | "SOURCE" | "URL" | "OWNER" | "HOST[:PORT]", _) => Named::Hostname,
        ("ACCOUNT", _) | ("NAME", "account") => Named::Account,
        ("ZONE" | "ZONES" | "DOMAIN" | "DOMAINS", _) if arg.get_possible_values().is_empty() => Named::Zone,
        ("PLAN", _) | ("NAME", "plan") => Named::Plan,
        ("SET", _) => Named::NameserverSet,
        _ => return None,
    };
    Some(Suggested::Names(kind))
}

fn names(kind: Named, typed: &OsStr) -> Vec<CompletionCandidate> {
    let Some(typed) = typed.to_str() else { return vec![] };
    let found = Store::open(&Layout::new(harbor()).inventory()).and_then(|store| store.names(kind, typed, MOST));
    found.unwrap_or_default().into_iter().map(CompletionCandidate::new).collect()
}

fn codes(typed: &OsStr) -> Vec<CompletionCandidate> {
    let Some(typed) = typed.to_str() else { return vec![] };
    let findings = all_rule_texts().into_iter().map(|text| (text.code, text.what));
    let others = Kind::ALL.into_iter().flat_map(|kind| kind.codes().iter().copied());
    let mut all: Vec<(&str, &str)> = findings.chain(others).filter(|(code, _)| code.starts_with(typed)).collect();
    all.sort_unstable();
    all.dedup_by_key(|(code, _)| *code);
    all.into_iter().map(|(code, what)| CompletionCandidate::new(code).help(Some(what.into()))).collect()
}

/// The harbor of the command that is being typed.
fn harbor() -> PathBuf {
    let typed = named_harbor(std::env::args_os());
    typed.or_else(|| std::env::var_os("BRIGHTHARBOR")).unwrap_or_else(|| Layout::USUAL.into()).into()
}

fn named_harbor(words: impl Iterator<Item = OsString>) -> Option<OsString> {
    let mut words = words.skip_while(|word| word != "--").skip(1);
    while let Some(word) = words.next() {
        match word.to_str() {
            Some("--harbor") => return words.next(),
            Some(word) if word.starts_with("--harbor=") => return word.strip_prefix("--harbor=").map(Into::into),
            _ => {}
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn arguments_are_told_apart_by_what_they_are_called() {
        let arg = |name: &'static str| Arg::new("x").value_name(name);
        let kind = |name, above| suggested(&arg(name), above);
        assert_eq!(kind("HOSTNAME", "site"), Some(Suggested::Names(Named::Hostname)));
        assert_eq!(kind("NAME", "account"), Some(Suggested::Names(Named::Account)));
        assert_eq!(kind("NAME", "plan"), Some(Suggested::Names(Named::Plan)));
        assert_eq!(kind("NAME", "ca"), None);
        assert_eq!(kind("DOMAINS", "delegation"), Some(Suggested::Names(Named::Zone)));
        assert_eq!(kind("CODE", ""), Some(Suggested::Codes));
        assert_eq!(kind("FILE", "zone"), None);
    }

    #[test]
    fn the_harbor_is_that_of_the_line() {
        let named = |line: &str| named_harbor(line.split(' ').map(OsString::from));
        assert_eq!(named("brightharbor -- brightharbor --harbor /srv/h attach "), Some("/srv/h".into()));
        assert_eq!(named("brightharbor -- brightharbor attach --harbor=/srv/h"), Some("/srv/h".into()));
        assert_eq!(named("brightharbor --harbor /no -- brightharbor attach"), None);
    }
}

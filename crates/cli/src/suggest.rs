//! What may have been meant by a name that nothing here has: the nearest one that there is.

use brightharbor_core::harbor::Layout;
use brightharbor_io::store::{Named, Store};
use strsim::osa_distance;

use crate::error::Error;
use crate::run::Context;

/// Adds to an error about an unknown name what it resembles.
pub fn with_suggestion(error: Error, context: &Context) -> Error {
    let (kind, fact) = match error.code {
        "not-attached" => (Named::Hostname, "hostname"),
        "unknown-account" => (Named::Account, "account"),
        "unknown-plan" => (Named::Plan, "plan"),
        "unknown-set" => (Named::NameserverSet, "set"),
        "no-zone" => (Named::Zone, "zone"),
        _ => return error,
    };
    let typed = error.facts.get(fact).and_then(|value| value.as_str()).map(String::from);
    let known =
        || Store::open(&Layout::new(&context.root).inventory()).and_then(|store| store.names(kind, "", usize::MAX));
    match typed.and_then(|typed| nearest(&typed, known().unwrap_or_default())) {
        Some(meant) => error.suggest(meant),
        None => error,
    }
}

/// The name that differs least from what was typed, if that is by a slip: a letter or two.
pub fn nearest(typed: &str, known: impl IntoIterator<Item = String>) -> Option<String> {
    // In a short name, two letters are another name.
    let most = if typed.chars().count() < 6 { 1 } else { 2 };
    let near = known.into_iter().filter(|name| name.len().abs_diff(typed.len()) <= most).filter_map(|name| {
        let distance = osa_distance(typed, &name);
        (1..=most).contains(&distance).then_some((distance, name))
    });
    near.min().map(|(_, name)| name)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_slip_is_seen_through_and_another_name_is_not_taken_for_one() {
        let known = || ["crumbandtide.example", "gullrock.example", "quay.example"].map(String::from);
        let near = |typed: &str| nearest(typed, known());
        assert_eq!(near("crumbandtied.example").as_deref(), Some("crumbandtide.example"));
        assert_eq!(near("gulrock.exmple").as_deref(), Some("gullrock.example"));
        assert_eq!((near("lanternchoir.example"), near("gullrock.example")), (None, None));
        assert_eq!(nearest("bay", ["key".to_string()]), None);
        assert_eq!(nearest("bkery", ["bakery".to_string(), "bakeries".to_string()]).as_deref(), Some("bakery"));
    }
}

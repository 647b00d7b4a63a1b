//! A link and its state, whose turn it is, and the exact values to hand over.

use std::collections::BTreeMap;

use jiff::Timestamp;
use serde::Serialize;

use crate::name::Host;

/// All links of one hostname.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Survey {
    pub hostname: Host,
    pub links: Vec<Link>,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Link {
    pub name: LinkName,
    pub state: LinkState,
    /// What was seen, for programs and for tests.
    pub code: &'static str,
    /// The same in words and values.
    pub because: String,
    /// Who has to act, where somebody has to.
    pub turn: Option<Turn>,
    /// The exact values to hand over to them, one line each.
    pub values: Vec<String>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum LinkName {
    Registered,
    Delegated,
    Resolves,
    Answers,
    Secure,
    Lands,
}

impl LinkName {
    pub fn word(self) -> &'static str {
        match self {
            LinkName::Registered => "registered",
            LinkName::Delegated => "delegated",
            LinkName::Resolves => "resolves",
            LinkName::Answers => "answers",
            LinkName::Secure => "secure",
            LinkName::Lands => "lands",
        }
    }
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase", tag = "is", content = "until")]
pub enum LinkState {
    Holds,
    /// Works, but is fragile.
    Risk,
    Broken,
    /// Will hold without anybody's help, at the latest then if a bound is known.
    Waiting(Option<Timestamp>),
    /// Could not be looked at, mostly because an earlier link is broken.
    Unchecked,
}

impl LinkState {
    pub fn word(&self) -> &'static str {
        match self {
            LinkState::Holds => "holds",
            LinkState::Risk => "risk",
            LinkState::Broken => "broken",
            LinkState::Waiting(_) => "waiting",
            LinkState::Unchecked => "unchecked",
        }
    }
}

/// In whose hands the next step lies.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Turn {
    /// Whoever holds the login at the registrar.
    Registrar,
    /// Whoever keeps the zone, if not this harbor.
    DnsHost,
    /// The administrator of this machine.
    Administrator,
    /// `brightharbor tend`.
    Tend,
    /// Nobody: cached answers expire.
    Caches,
}

impl Turn {
    pub fn words(self) -> &'static str {
        match self {
            Turn::Registrar => "whoever holds the registrar login",
            Turn::DnsHost => "whoever keeps the DNS zone",
            Turn::Administrator => "you, on this machine",
            Turn::Tend => "brightharbor tend",
            Turn::Caches => "nothing to do: resolver caches expire",
        }
    }
}

impl Link {
    pub(super) fn new(name: LinkName, state: LinkState, code: &'static str, because: impl Into<String>) -> Self {
        Self { name, state, code, because: because.into(), turn: None, values: vec![] }
    }

    pub(super) fn turn(mut self, turn: Turn) -> Self {
        self.turn = Some(turn);
        self
    }

    pub(super) fn values(mut self, values: Vec<String>) -> Self {
        self.values = values;
        self
    }
}

impl Survey {
    /// The first link that does not hold; a risk works and does not count.
    pub fn first_open(&self) -> Option<&Link> {
        self.links.iter().find(|link| !matches!(link.state, LinkState::Holds | LinkState::Risk))
    }

    pub fn all_hold(&self) -> bool {
        self.first_open().is_none()
    }

    /// Whether something is wrong that this machine's administrator must fix, rather than waited for or handed over.
    pub fn has_own_fault(&self) -> bool {
        self.first_open().is_some_and(|link| {
            link.state == LinkState::Broken && !matches!(link.turn, Some(Turn::Registrar | Turn::DnsHost))
        })
    }
}

/// Why hostnames stop, the commonest reason first, with how many stop by it; those that stop nowhere do not count.
pub fn reasons(surveys: &[Survey]) -> Vec<(&'static str, usize)> {
    let mut counted: BTreeMap<&'static str, usize> = BTreeMap::new();
    for link in surveys.iter().filter_map(Survey::first_open) {
        *counted.entry(link.code).or_default() += 1;
    }
    let mut all: Vec<(&'static str, usize)> = counted.into_iter().collect();
    all.sort_by_key(|(_, count)| std::cmp::Reverse(*count));
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_commonest_reason_comes_first_and_what_holds_does_not_count() {
        let survey = |state: LinkState, code: &'static str| {
            let link = |state, code| Link {
                name: LinkName::Secure,
                state,
                code,
                because: String::new(),
                turn: None,
                values: vec![],
            };
            let links = vec![link(LinkState::Holds, "delegated"), link(state, code), link(LinkState::Broken, "later")];
            Survey { hostname: Host::parse("gullrock.example").unwrap(), links }
        };
        let mut all =
            vec![survey(LinkState::Broken, "b"), survey(LinkState::Waiting(None), "a"), survey(LinkState::Broken, "b")];
        assert_eq!(reasons(&all), [("b", 2), ("a", 1)]);
        all.iter_mut().for_each(|survey| survey.links.truncate(1));
        assert_eq!(reasons(&all), []);
    }
}

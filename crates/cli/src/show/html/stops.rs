//! What does not work, as the page shows it: hostnames by the reason that they stop for, and by whose turn it is.

use std::collections::BTreeMap;

use brightharbor_core::site::Site;
use brightharbor_core::survey::{Link, StoppedSince, Survey, Turn};
use serde::Serialize;

use super::rows::{BROKEN, state_of};
use crate::show::words::host_words;

/// Hostnames that stop for the same reason, with the same people's turn.
#[derive(Serialize)]
pub(super) struct Stop {
    broken: bool,
    code: &'static str,
    turn: &'static str,
    own: bool,
    hosts: usize,
    reasons: Vec<Reason>,
    /// Hostnames that are in the list alone.
    more: usize,
}

/// Hostnames of which the same was seen.
#[derive(Serialize)]
struct Reason {
    because: String,
    values: Vec<String>,
    names: Vec<String>,
    accounts: Vec<String>,
    /// Of the one that has stopped for longest.
    since: String,
}

/// Reasons of one kind that the page shows, and hostnames of one.
const MOST_REASONS: usize = 25;
const MOST_NAMES: usize = 12;

fn turn_words(turn: Option<Turn>, for_customer: bool) -> &'static str {
    match (turn, for_customer) {
        (None, _) => "not known",
        (Some(Turn::Administrator | Turn::Tend), true) => "your provider",
        (Some(Turn::Registrar), true) => "you, or whoever holds the registrar login",
        (Some(Turn::DnsHost), true) => "you, or whoever keeps the DNS zone",
        (Some(turn), _) => turn.words(),
    }
}

/// The broken ones first; those that the administrator has to fix before others, then by how many they are.
pub(super) fn stops<'a>(
    seen: impl Iterator<Item = (&'a Site, &'a Survey)>,
    since: &StoppedSince,
    for_customer: bool,
) -> Vec<Stop> {
    let mut groups: BTreeMap<(bool, &'static str, &'static str), Stop> = BTreeMap::new();
    for (site, survey) in seen {
        let Some(link) = survey.first_open() else { continue };
        let (broken, turn) = (state_of(Some(link)) == BROKEN, turn_words(link.turn, for_customer));
        let own = matches!(link.turn, Some(Turn::Administrator));
        let new = || Stop { broken, code: link.code, turn, own, hosts: 0, reasons: vec![], more: 0 };
        let since = since.get(survey.hostname.as_str()).map(|stopped| stopped.since);
        let since = since.map(|since| since.strftime("%Y-%m-%d %H:%M").to_string()).unwrap_or_default();
        groups.entry((broken, link.code, turn)).or_insert_with(new).add(survey, link, site.account.as_str(), since);
    }
    let mut all: Vec<Stop> = groups.into_values().collect();
    all.sort_by_key(|stop| (!stop.broken, !stop.own, std::cmp::Reverse(stop.hosts)));
    all
}

impl Stop {
    fn add(&mut self, survey: &Survey, link: &Link, account: &str, since: String) {
        self.hosts += 1;
        let name = host_words(&survey.hostname);
        let same = |reason: &Reason| reason.because == link.because && reason.values == link.values;
        match self.reasons.iter().position(same) {
            Some(at) if self.reasons[at].names.len() < MOST_NAMES => {
                let reason = &mut self.reasons[at];
                reason.names.push(name);
                if !reason.accounts.iter().any(|known| known == account) {
                    reason.accounts.push(account.into());
                }
                // As they are written, the earlier one is the smaller text.
                reason.since = std::mem::take(&mut reason.since).min(since);
            }
            None if self.reasons.len() < MOST_REASONS => self.reasons.push(Reason {
                because: link.because.clone(),
                values: link.values.clone(),
                names: vec![name],
                accounts: vec![account.into()],
                since,
            }),
            _ => self.more += 1,
        }
    }
}

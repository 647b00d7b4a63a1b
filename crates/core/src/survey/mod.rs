//! The six links of a hostname, judged from what was seen: registered, delegated, resolves, answers, secure, lands.
//!
//! One file judges one or two links. What was seen comes from `brightharbor-io`; printing is for the command-line
//! crate.

mod answers;
mod delegated;
mod handover;
mod lands;
mod link;
mod resolves;
mod secure;
mod seen;
mod spread;
mod stopped;

pub use link::{Link, LinkName, LinkState, Survey, Turn, reasons};
pub use seen::{
    Gathered, Harbored, HostGathered, HttpOutcome, HttpSeen, Resolved, Seen, SilentProgram, TlsOutcome, TlsSeen,
    authoritative_addresses,
};
pub use spread::{Answering, Has, Spread, spread};
pub use stopped::{Stopped, StoppedSince, stopped_since};

use crate::delegation::rules::WITHOUT_ZONE;

/// The links of a site without a name.
const NAMELESS: [LinkName; 3] = [LinkName::Registered, LinkName::Delegated, LinkName::Resolves];

/// Judges all six links, in the order a visitor meets them.
pub fn survey(seen: &Seen<'_>) -> Survey {
    let [registered, delegated, resolves] = match seen.hostname.address() {
        Some(_) => {
            NAMELESS.map(|name| Link::new(name, LinkState::Holds, "needs-no-domain", "an address needs no domain"))
        }
        None => {
            let registered = delegated::registered(seen);
            let delegated = delegated::delegated(seen, &registered);
            let resolves = resolves::resolves(seen, &registered);
            [registered, delegated, resolves]
        }
    };
    let answers = answers::answers(seen);
    let secure = secure::secure(seen, &[&registered, &delegated, &resolves, &answers]);
    let lands = lands::lands(seen, &answers);
    Survey { hostname: seen.hostname.clone(), links: vec![registered, delegated, resolves, answers, secure, lands] }
}

/// How a CA that looks now would get to this harbor's web server.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CaWay {
    Http,
    /// The name resolves to this host, but nobody takes connections for http: the reason.
    NotHttp(String),
}

/// Whether a CA that looks now would be led to this harbor's web server, and how; the error says why not.
///
/// Caches are left out of it: a CA asks the authoritative servers.
pub fn leads_here(seen: &Seen<'_>) -> Result<CaWay, String> {
    let links = survey(seen).links;
    // A CA asks the next nameserver where one does not hold the zone.
    let leads_on = |link: &&Link| WITHOUT_ZONE.contains(&link.code) && seen.zone_is_here();
    let broken = links.iter().take(2).find(|link| link.state == LinkState::Broken && !leads_on(link));
    if let Some(link) = broken {
        return Err(link.because.clone());
    }
    resolves::authoritative_leads_here(seen)?;
    match links.iter().find(|link| link.name == LinkName::Answers) {
        Some(link) if link.state == LinkState::Broken && answers::is_closed(seen) => {
            Ok(CaWay::NotHttp(link.because.clone()))
        }
        Some(link) if link.state != LinkState::Holds => Err(link.because.clone()),
        _ => Ok(CaWay::Http),
    }
}

/// Until when resolvers may still give an old answer, where one of them was seen to.
pub fn stale_until(surveys: &[Survey]) -> Option<jiff::Timestamp> {
    let links = surveys.iter().flat_map(|survey| &survey.links).filter(|link| link.name == LinkName::Resolves);
    links.filter_map(|link| if let LinkState::Waiting(until) = link.state { until } else { None }).max()
}

#[cfg(test)]
mod tests;

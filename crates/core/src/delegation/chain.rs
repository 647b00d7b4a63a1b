//! The chain of trust from the root's key down to what the parent says of a domain (RFC 4035 section 5.2). Every step reads
//! the observations and puts on the list what is not there yet, as `walk` does.
//!
//! What the domain's own servers say is for `signed`. Without an anchor, in a closed network that has given none, the
//! parent's DS records are taken as they come.

use std::net::SocketAddr;

use jiff::Timestamp;
use serde::Serialize;

use super::dnssec::denial::Denials;
use super::dnssec::{Checked, Ds, Flaw, Key, check, signer_of};
use super::walk::{MOST_CUTS, Walk};
use super::{Outcome, Reply};
use crate::name::DnsName;
use crate::zone::{Record, RecordType};

/// What a validating resolver makes of the way down to the domain.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Chain {
    /// It was not looked at.
    Unasked,
    /// No key of the root is known.
    Unanchored,
    /// Signed all the way: what the parent says of the domain's keys holds.
    Secure,
    /// `zone` is proven not to be signed, and nothing below it can be: answers are taken as they come.
    Insecure { zone: DnsName },
    /// What is said about `zone` cannot be verified: nobody who validates gets an answer.
    Broken { zone: DnsName, why: String },
    /// Not enough answers.
    NotSeen { why: String },
}

impl Chain {
    /// Whether the domain's own signatures count for a validating resolver, as far as this tells.
    pub fn leads_on(&self) -> bool {
        !matches!(self, Chain::Insecure { .. } | Chain::Broken { .. })
    }
}

/// The keys of the root zone that IANA publishes (`root-anchors.xml`): those of 2017 and 2024, by SHA-256.
pub const ROOT_ANCHORS: [&str; 2] = [
    ". DS 20326 8 2 E06D44B80B8F1D39A95C0B0D7C65D08458E880409BBC683457104237C7F8EC8D",
    ". DS 38696 8 2 683D2D0ACB8C9B712A1948B27F741219298D0A450D612C483AF444A4C0FB2B16",
];

/// Servers of one zone that are asked for the same, until one gives what can be verified.
const MOST_ASKED: usize = 4;

/// A zone on the way, with its servers.
type Zone = (DnsName, Vec<SocketAddr>);

/// What a parent says of a zone below it.
enum Below {
    Signed(Vec<Ds>),
    Unsigned,
    /// Another zone lies between, on the same servers.
    Through(DnsName),
}

/// Follows the chain to the domain's parent, and to what it says of the domain.
pub(super) fn chain(walk: &mut Walk<'_>) -> Option<Chain> {
    let mut trusted = walk.brief.anchors.clone();
    if trusted.is_empty() {
        return Some(Chain::Unanchored);
    }
    let now = walk.seen_at()?;
    let domain = walk.brief.domain.clone();
    let mut zones = above(walk);
    ask_ahead(walk, &zones);
    let mut at = 0;
    // Each zone that is found between two others makes the way longer; no way is endless.
    while at < zones.len() && zones.len() <= MOST_CUTS {
        let zone = zones[at].clone();
        let keys = match keys_of(walk, &zone, &trusted, now)? {
            Ok(keys) => keys,
            Err(end) => return Some(end),
        };
        let below = zones.get(at + 1).map_or(&domain, |(name, _)| name).clone();
        match below_of(walk, &zone, &below, &keys, now)? {
            Err(end) => return Some(end),
            Ok(Below::Through(between)) => zones.insert(at + 1, (between, zone.1)),
            Ok(Below::Unsigned) => return Some(Chain::Insecure { zone: below }),
            Ok(Below::Signed(ds)) if !ds.iter().any(Ds::is_supported) => return Some(Chain::Insecure { zone: below }),
            Ok(Below::Signed(_)) if below == domain => return Some(Chain::Secure),
            Ok(Below::Signed(ds)) => {
                trusted = ds;
                at += 1;
            }
        }
    }
    Some(Chain::NotSeen { why: "the way down has no end".into() })
}

/// Puts what the way down will need on the list at once: one wait for all the zones instead of one for each.
fn ask_ahead(walk: &mut Walk<'_>, zones: &[Zone]) {
    for (at, (zone, servers)) in zones.iter().enumerate() {
        let Some(server) = servers.first() else { continue };
        walk.ask(*server, zone, RecordType::DNSKEY);
        if let Some((below, _)) = zones.get(at + 1) {
            walk.ask(*server, below, RecordType::DS);
        }
    }
}

/// The zones above the domain that are known, from the root down.
fn above(walk: &Walk<'_>) -> Vec<Zone> {
    let domain = &walk.brief.domain;
    let mut zones = vec![(DnsName::root(), walk.brief.roots.clone())];
    let known = walk.brief.cuts.iter().chain(&walk.cuts);
    zones.extend(
        known.filter(|(zone, _)| *zone != domain && domain.is_within(zone)).map(|(a, b)| (a.clone(), b.clone())),
    );
    zones.sort_by_key(|(zone, _)| zone.labels().count());
    zones.dedup_by(|one, other| one.0 == other.0);
    zones
}

/// Asks the servers of a zone in turn, as a validating resolver does: what one of them has rightly is enough.
fn of_any<'a, T>(
    walk: &mut Walk<'a>,
    servers: &[SocketAddr],
    name: &DnsName,
    record_type: RecordType,
    judge: impl Fn(&'a Reply) -> Result<T, Chain>,
) -> Option<Result<T, Chain>> {
    let mut worst: Option<Chain> = None;
    let mut silent = Vec::new();
    for server in servers.iter().take(MOST_ASKED) {
        let outcome = walk.ask(*server, name, record_type)?;
        let answers = |reply: &&Reply| matches!(reply.rcode, Reply::NOERROR | Reply::NXDOMAIN);
        match with_authority(outcome).filter(answers).map(&judge) {
            Some(Ok(good)) => return Some(Ok(good)),
            Some(Err(end)) => worst = worst.or(Some(end)),
            None => silent.push(format!("{server} {}", outcome.in_words())),
        }
    }
    Some(Err(worst.unwrap_or(Chain::NotSeen { why: silent.join("; ") })))
}

/// The keys of a zone that one of the trusted ones vouches for.
fn keys_of(
    walk: &mut Walk<'_>,
    (name, servers): &Zone,
    trusted: &[Ds],
    now: Timestamp,
) -> Option<Result<Vec<Key>, Chain>> {
    let broken = |why: String| Err(Chain::Broken { zone: name.clone(), why });
    of_any(walk, servers, name, RecordType::DNSKEY, |reply| {
        let set = set_of(&reply.answer, name, RecordType::DNSKEY);
        let keys: Vec<Key> = set.iter().filter_map(|record| Key::of(record)).collect();
        let is_vouched_for = |key: &&Key| trusted.iter().any(|ds| ds.is_of(key, name));
        let vouched: Vec<Key> = keys.iter().filter(is_vouched_for).cloned().collect();
        if vouched.is_empty() {
            let wanted: Vec<String> = trusted.iter().map(|ds| ds.key_tag.to_string()).collect();
            let why = format!("{name} does not have the key {}, which is to vouch for its others", wanted.join(" or "));
            return broken(why);
        }
        match check(&set, &reply.answer, &vouched, name, now) {
            Checked::Bad(flaw) => broken(format!("the keys of {name} {flaw}")),
            Checked::Unknown => Err(Chain::Insecure { zone: name.clone() }),
            Checked::Holds | Checked::HoldsByWildcard { .. } => Ok(keys),
        }
    })
}

/// What the zone says of the DS records of a name below it, proven.
fn below_of(
    walk: &mut Walk<'_>,
    (zone, servers): &Zone,
    below: &DnsName,
    keys: &[Key],
    now: Timestamp,
) -> Option<Result<Below, Chain>> {
    let broken = |what: &str, flaw: Flaw| {
        Err(Chain::Broken { zone: below.clone(), why: format!("what {zone} says of {what} {below} {flaw}") })
    };
    let between =
        |signer: &DnsName| signer != zone && signer != below && signer.is_within(zone) && below.is_within(signer);
    of_any(walk, servers, below, RecordType::DS, |reply| {
        let mut signers = reply.answer.iter().chain(&reply.authority).filter_map(signer_of);
        if let Some(signer) = signers.find(between) {
            return Ok(Below::Through(signer));
        }
        let set = set_of(&reply.answer, below, RecordType::DS);
        if set.is_empty() {
            let denials = Denials::read(&reply.authority, keys, zone, now);
            return match denials.absence(below, RecordType::DS, reply.rcode == Reply::NXDOMAIN) {
                Ok(_) => Ok(Below::Unsigned),
                Err(flaw) => broken("the missing DS of", flaw),
            };
        }
        match check(&set, &reply.answer, keys, zone, now) {
            Checked::Bad(flaw) => broken("the DS of", flaw),
            Checked::Unknown => Ok(Below::Unsigned),
            Checked::Holds | Checked::HoldsByWildcard { .. } => {
                Ok(Below::Signed(set.iter().filter_map(|record| Ds::of(record)).collect()))
            }
        }
    })
}

pub(super) fn set_of<'r>(records: &'r [Record], owner: &DnsName, record_type: RecordType) -> Vec<&'r Record> {
    records.iter().filter(|record| record.owner == *owner && record.record_type() == record_type).collect()
}

/// The reply of a question that was asked, if it is one with authority.
pub(super) fn with_authority(outcome: &Outcome) -> Option<&Reply> {
    match outcome {
        Outcome::Reply(reply) if reply.authoritative => Some(reply),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::delegation::{Brief, Observation, Observations, Question};

    fn name(text: &str) -> DnsName {
        DnsName::absolute(text).unwrap()
    }

    #[test]
    fn all_zones_of_the_way_down_are_asked_at_once() {
        let [root, registry]: [SocketAddr; 2] = ["192.0.2.1:53", "192.0.2.2:53"].map(|text| text.parse().unwrap());
        let brief = Brief {
            domain: name("gullrock.example"),
            roots: vec![root],
            dns_port: 53,
            hostnames: vec![],
            most_questions: 200,
            thorough: false,
            validates: true,
            anchors: vec![Ds { key_tag: 1, algorithm: 13, digest_type: 2, digest: vec![1; 32] }],
            cuts: std::sync::Arc::new([(name("example"), vec![registry])].into()),
        };
        let mut seen = Observations::default();
        let question = Question::authoritative(root, &name("elsewhere"), RecordType::SOA);
        let at = "2026-11-28T00:00:00Z".parse().unwrap();
        seen.add(Observation { question, outcome: Outcome::Reply(Reply::default()), at, elapsed_ms: 1 });
        let mut walk = Walk::new(&brief, &seen);
        assert_eq!(chain(&mut walk), None);
        let asked: Vec<_> =
            walk.into_missing().into_iter().map(|one| (one.server, one.name, one.record_type)).collect();
        let wanted = [
            (root, DnsName::root(), RecordType::DNSKEY),
            (root, name("example"), RecordType::DS),
            (registry, name("example"), RecordType::DNSKEY),
        ];
        assert_eq!(asked, wanted);
    }
}

//! What a signed domain's own servers say, verified as a validating resolver would: the keys by the parent's DS records,
//! all else by the keys, and what is not there by its proof. `chain` says whether the DS records can be relied on.

use std::net::SocketAddr;

use jiff::Timestamp;
use serde::Serialize;

use super::chain::{chain, set_of, with_authority};
use super::dnssec::denial::Denials;
use super::dnssec::{Checked, Ds, Flaw, Key, check, signer_of};
use super::walk::Walk;
use super::{Outcome, Picture, Probed, Question, Reply, Signature};
use crate::name::DnsName;
use crate::zone::{Record, RecordType};

/// A name that nobody has: the answer for it has to prove that.
const ABSENT: &str = "absence-is-to-be-proven";

const DNAME: RecordType = RecordType(39);

/// A record set, or its absence, that a validating resolver would not accept.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct SetFlaw {
    pub name: DnsName,
    pub record_type: RecordType,
    /// Whether it is the proof that the set is not there.
    pub absent: bool,
    pub flaw: Flaw,
}

/// What a validating resolver makes of it all: the chain down to the domain, and each server that answers for it.
pub(super) fn verified(walk: &mut Walk<'_>, picture: &mut Picture) -> Option<()> {
    let chain = chain(walk);
    let mut all = Some(());
    if picture.ds.iter().any(Ds::is_supported) {
        for server in picture.nameservers.iter_mut().flat_map(|nameserver| &mut nameserver.servers) {
            if !server.state.has_authority() {
                continue;
            }
            let answers = Answers::ask(walk, server.address);
            // Verifying costs more than asking: it is done once, when there is nothing left to wait for.
            let judged = match chain {
                Some(_) => answers.and_then(|answers| answers.verify(walk, &picture.ds, &mut server.probed)),
                None => None,
            };
            all = all.and(judged);
        }
    }
    picture.chain = chain?;
    all
}

/// What one server of a domain with DS records says, of all that is verified.
struct Answers<'a> {
    server: SocketAddr,
    keys: &'a Outcome,
    soa: &'a Outcome,
    sets: Vec<(DnsName, RecordType, &'a Outcome)>,
}

impl<'a> Answers<'a> {
    fn ask(walk: &mut Walk<'a>, server: SocketAddr) -> Option<Self> {
        let domain = walk.brief.domain.clone();
        let apex = [RecordType::SOA, RecordType::NS, RecordType::A, RecordType::MX];
        let mut wanted: Vec<_> = apex.into_iter().map(|kind| (domain.clone(), kind)).collect();
        let absent = DnsName::parse(ABSENT, &domain).ok();
        wanted.extend(absent.map(|name| (name, RecordType::A)));
        for hostname in walk.brief.hostnames.iter().filter(|name| **name != domain) {
            wanted.push((hostname.clone(), RecordType::A));
            wanted.push((hostname.clone(), RecordType::AAAA));
        }
        let keys = walk.ask(server, &domain, RecordType::DNSKEY);
        let answers: Vec<_> = wanted.iter().map(|(name, kind)| ask(walk, server, name, *kind)).collect();
        let (keys, answers) = (keys?, answers.into_iter().collect::<Option<Vec<_>>>()?);
        let soa = answers[0];
        let sets = wanted.into_iter().zip(answers).map(|((name, kind), answer)| (name, kind, answer));
        Some(Self { server, keys, soa, sets: sets.collect() })
    }

    /// `probed` gets the keys, the signatures and the flaws.
    fn verify(self, walk: &mut Walk<'_>, ds: &[Ds], probed: &mut Probed) -> Option<()> {
        let domain = walk.brief.domain.clone();
        let now = walk.seen_at()?;
        let Outcome::Reply(of_keys) = self.keys else { return Some(()) };
        let set = set_of(&of_keys.answer, &domain, RecordType::DNSKEY);
        probed.keys = set.iter().filter_map(|record| Key::of(record)).collect();
        let soa = with_authority(self.soa);
        let both = of_keys.answer.iter().chain(soa.into_iter().flat_map(|reply| &reply.answer));
        probed.signatures = both.filter_map(|record| Signature::of(record, now)).collect();
        let entries: Vec<Key> =
            probed.keys.iter().filter(|key| ds.iter().any(|ds| ds.is_of(key, &domain))).cloned().collect();
        // That the keys are not the wanted ones is told by itself.
        if entries.is_empty() {
            return Some(());
        }
        let mut flaws = Vec::new();
        if let Checked::Bad(flaw) = check(&set, &of_keys.answer, &entries, &domain, now) {
            flaws.push(SetFlaw { name: domain.clone(), record_type: RecordType::DNSKEY, absent: false, flaw });
        }
        for (name, record_type, outcome) in self.sets {
            let Some(reply) = with_authority(outcome) else { continue };
            let Some(flaw) = flaw_of(reply, &name, record_type, &domain, &probed.keys, now) else { continue };
            // Another zone below may be on the same server, and not signed.
            if name == domain || is_own(walk, self.server, &name)? {
                let absent = reply.answer.is_empty();
                flaws.push(SetFlaw { name, record_type, absent, flaw });
            }
        }
        probed.flaws = flaws;
        Some(())
    }
}

fn ask<'a>(walk: &mut Walk<'a>, server: SocketAddr, name: &DnsName, record_type: RecordType) -> Option<&'a Outcome> {
    let plain = Question::authoritative(server, name, record_type);
    // The start of authority is always asked for with its signature.
    let with_signatures = record_type != RecordType::SOA;
    walk.ask_by(Question { with_signatures, ..plain })
}

/// Whether a name lies in the domain's own zone at this server.
fn is_own(walk: &mut Walk<'_>, server: SocketAddr, name: &DnsName) -> Option<bool> {
    let outcome = walk.ask(server, name, RecordType::SOA)?;
    let Some(reply) = with_authority(outcome) else { return Some(false) };
    let zones = reply.answer.iter().chain(&reply.authority).filter(|record| record.record_type() == RecordType::SOA);
    Some(zones.map(|record| &record.owner).all(|zone| *zone == walk.brief.domain))
}

/// What is wrong with one answer.
fn flaw_of(
    reply: &Reply,
    name: &DnsName,
    wanted: RecordType,
    zone: &DnsName,
    keys: &[Key],
    now: Timestamp,
) -> Option<Flaw> {
    if ![Reply::NOERROR, Reply::NXDOMAIN].contains(&reply.rcode) {
        return None;
    }
    let of_other_zone =
        |record: &Record| signer_of(record).is_some_and(|signer| signer != *zone && signer.is_within(zone));
    if reply.answer.iter().chain(&reply.authority).any(of_other_zone) {
        return None;
    }
    let denials = || Denials::read(&reply.authority, keys, zone, now);
    // Where the name is an alias, itself or by a DNAME above it, that is what has to be signed.
    let above = reply.answer.iter().find(|record| record.record_type() == DNAME && name.is_within(&record.owner));
    let sets = match above {
        Some(dname) => vec![set_of(&reply.answer, &dname.owner, DNAME)],
        None => vec![set_of(&reply.answer, name, RecordType::CNAME), set_of(&reply.answer, name, wanted)],
    };
    let Some(set) = sets.into_iter().find(|set| !set.is_empty()) else {
        return denials().absence(name, wanted, reply.rcode == Reply::NXDOMAIN).err();
    };
    match check(&set, &reply.answer, keys, zone, now) {
        Checked::Holds | Checked::Unknown => None,
        Checked::HoldsByWildcard { encloser } => denials().nothing_closer(name, &encloser).err(),
        Checked::Bad(flaw) => Some(flaw),
    }
}

#[cfg(test)]
#[path = "signed_tests.rs"]
mod tests;

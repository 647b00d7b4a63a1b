//! Proofs that something is not there: NSEC (RFC 4035 section 5.4) and NSEC3 (RFC 5155 section 8). The records come with an
//! answer; each counts only if its signature holds.

use jiff::Timestamp;
use sha1::{Digest, Sha1};

use super::Key;
use super::verify::{Checked, Flaw, check};
use crate::name::DnsName;
use crate::zone::{Field, Record, RecordData, RecordType, base32_hex};

/// RFC 9276 section 3.2: with more iterations the zone may be taken as not signed; nobody is to compute for ever.
const MOST_ITERATIONS: u32 = 150;

/// No proof needs more records than a few; a hostile answer has hundreds, each to be verified and hashed against.
const MOST_RECORDS: usize = 24;

const NSEC: RecordType = RecordType(47);
const NSEC3: RecordType = RecordType(50);
const DNAME: RecordType = RecordType(39);

/// What an answer without the wanted records proves.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Denied {
    /// There is no such name, or it has no such records.
    Proven,
    /// The name lies in a span that may hold delegations without DS (RFC 5155 section 6).
    OptedOut,
    /// By means that are not known here: it counts as not signed.
    Unknown,
}

/// The denials of one answer whose signatures hold.
pub struct Denials<'a> {
    zone: &'a DnsName,
    nsec: Vec<Nsec>,
    nsec3: Vec<Nsec3>,
    /// There are such records, and none of them can be used.
    flaw: Option<Flaw>,
    unknown: bool,
}

struct Nsec {
    owner: DnsName,
    next: DnsName,
    types: Vec<RecordType>,
}

struct Nsec3 {
    hash: Vec<u8>,
    next: Vec<u8>,
    opt_out: bool,
    types: Vec<RecordType>,
    iterations: u32,
    salt: Vec<u8>,
}

impl<'a> Denials<'a> {
    /// Reads what stands in an answer's authority section.
    pub fn read(authority: &[Record], keys: &[Key], zone: &'a DnsName, now: Timestamp) -> Self {
        let mut denials = Self { zone, nsec: vec![], nsec3: vec![], flaw: None, unknown: false };
        let proofs = authority.iter().filter(|record| [NSEC, NSEC3].contains(&record.record_type()));
        for record in proofs.take(MOST_RECORDS) {
            match check(&[record], authority, keys, zone, now) {
                Checked::Holds => denials.take(record),
                Checked::Unknown => denials.unknown = true,
                Checked::HoldsByWildcard { .. } => {}
                Checked::Bad(flaw) => denials.flaw = denials.flaw.take().max(Some(flaw)),
            }
        }
        denials
    }

    fn take(&mut self, record: &Record) {
        // Records come from the wire as they are; their fields are those of a zone file.
        let data = RecordData::from_wire(record.record_type(), &record.data.to_wire());
        let Some(RecordData::Fields { fields, .. }) = data else { return };
        match &fields[..] {
            [Field::Name(next), Field::Types(types)] => {
                self.nsec.push(Nsec { owner: record.owner.clone(), next: next.clone(), types: types.clone() });
            }
            [
                Field::Number(1),
                Field::Number(flags),
                Field::Number(iterations),
                Field::Salt(salt),
                Field::Hash(next),
                Field::Types(types),
            ] => {
                if *iterations > MOST_ITERATIONS {
                    self.unknown = true;
                    return;
                }
                let Some(hash) = hashed_owner(&record.owner, self.zone) else { return };
                let (next, salt, types) = (next.clone(), salt.clone(), types.clone());
                self.nsec3.push(Nsec3 { hash, next, opt_out: flags & 1 == 1, types, iterations: *iterations, salt });
            }
            _ => {}
        }
    }

    /// Whether the name is proven not to exist, or to have no records of that type.
    pub fn absence(&self, name: &DnsName, record_type: RecordType, no_such_name: bool) -> Result<Denied, Flaw> {
        let proven = match no_such_name {
            true => self.no_such_name(name),
            false => self.no_such_records(name, record_type),
        };
        match proven {
            Some(denied) => Ok(denied),
            None if self.unknown => Ok(Denied::Unknown),
            None => Err(self.flaw.clone().unwrap_or(Flaw::Unproven)),
        }
    }

    /// Whether nothing is closer to the name than the wildcard that stood for it (RFC 4035 section 5.3.4).
    pub fn nothing_closer(&self, name: &DnsName, encloser: &DnsName) -> Result<(), Flaw> {
        let by_hash = next_closer(name, encloser).is_some_and(|closer| self.covers_hash(&closer).is_some());
        match by_hash || self.nsec.iter().any(|nsec| nsec.covers(name)) || self.unknown {
            true => Ok(()),
            false => Err(self.flaw.clone().unwrap_or(Flaw::Unproven)),
        }
    }

    fn no_such_name(&self, name: &DnsName) -> Option<Denied> {
        if let Some(covering) = self.nsec.iter().find(|nsec| nsec.covers(name)) {
            let wildcard = wildcard_below(&covering.encloser(name))?;
            return self.nsec.iter().any(|nsec| nsec.covers(&wildcard)).then_some(Denied::Proven);
        }
        let (encloser, opt_out) = self.closest_encloser(name)?;
        let no_wildcard = self.covers_hash(&wildcard_below(&encloser)?).is_some();
        match opt_out {
            true => Some(Denied::OptedOut),
            false => no_wildcard.then_some(Denied::Proven),
        }
    }

    fn no_such_records(&self, name: &DnsName, record_type: RecordType) -> Option<Denied> {
        let lacks = |types: &[RecordType]| {
            // At a cut the parent speaks of the DS alone, and of that only the parent (RFC 6840 section 4.4).
            let is_apex = types.contains(&RecordType::SOA);
            let speaks = match record_type {
                RecordType::DS => !is_apex || name.is_root(),
                _ => is_apex || !types.contains(&RecordType::NS),
            };
            speaks && !types.contains(&record_type) && !types.contains(&RecordType::CNAME)
        };
        if let Some(here) = self.nsec.iter().find(|nsec| nsec.owner == *name) {
            return lacks(&here.types).then_some(Denied::Proven);
        }
        if let Some(covering) = self.nsec.iter().find(|nsec| nsec.covers(name)) {
            // A name that only has names below it.
            if covering.next.is_within(name) {
                return Some(Denied::Proven);
            }
            let wildcard = wildcard_below(&covering.encloser(name))?;
            return self.nsec.iter().any(|nsec| nsec.owner == wildcard && lacks(&nsec.types)).then_some(Denied::Proven);
        }
        if let Some(here) = self.matching_hash(name) {
            return lacks(&here.types).then_some(Denied::Proven);
        }
        let (encloser, opt_out) = self.closest_encloser(name)?;
        let wildcard = self.matching_hash(&wildcard_below(&encloser)?);
        match (record_type, wildcard) {
            (RecordType::DS, _) if opt_out => Some(Denied::OptedOut),
            (_, Some(wildcard)) => lacks(&wildcard.types).then_some(Denied::Proven),
            _ => None,
        }
    }

    /// RFC 5155 section 8.3: the longest ancestor that is there, while the next longer one is not; with the opt-out.
    fn closest_encloser(&self, name: &DnsName) -> Option<(DnsName, bool)> {
        let mut closer = name.clone();
        while closer != *self.zone {
            let above = closer.parent()?;
            if let Some(here) = self.matching_hash(&above) {
                // A cut or a DNAME at it would answer for what is below (section 8.3).
                let leads_away = here.types.contains(&DNAME)
                    || here.types.contains(&RecordType::NS) && !here.types.contains(&RecordType::SOA);
                return self.covers_hash(&closer).filter(|_| !leads_away).map(|opt_out| (above, opt_out));
            }
            closer = above;
        }
        None
    }

    fn matching_hash(&self, name: &DnsName) -> Option<&Nsec3> {
        self.nsec3.iter().find(|nsec3| nsec3.hash_of(name) == nsec3.hash)
    }

    /// Whether the name lies in a gap; with whether that may hold more.
    fn covers_hash(&self, name: &DnsName) -> Option<bool> {
        let covers = |nsec3: &&Nsec3| is_between(&nsec3.hash, &nsec3.hash_of(name), &nsec3.next);
        name.is_within(self.zone).then(|| self.nsec3.iter().find(covers).map(|nsec3| nsec3.opt_out))?
    }
}

impl Nsec {
    fn covers(&self, name: &DnsName) -> bool {
        // A cut or a DNAME answers for what is below it (RFC 6840 section 4.1).
        let is_cut = self.types.contains(&RecordType::NS) && !self.types.contains(&RecordType::SOA);
        let leads_away = (is_cut || self.types.contains(&DNAME)) && name.is_within(&self.owner);
        is_between(&self.owner, name, &self.next) && !leads_away
    }

    /// The longest ancestor of a covered name that is there.
    fn encloser(&self, name: &DnsName) -> DnsName {
        let mut above = name.parent().unwrap_or_else(DnsName::root);
        while !self.owner.is_within(&above) && !self.next.is_within(&above) {
            above = above.parent().unwrap_or_else(DnsName::root);
        }
        above
    }
}

impl Nsec3 {
    /// RFC 5155 section 5.
    fn hash_of(&self, name: &DnsName) -> Vec<u8> {
        let mut hash = Sha1::new().chain_update(name.wire()).chain_update(&self.salt).finalize().to_vec();
        for _ in 0..self.iterations {
            hash = Sha1::new().chain_update(&hash).chain_update(&self.salt).finalize().to_vec();
        }
        hash
    }
}

/// In the order of a ring; the last of all leads back to the first.
fn is_between<T: Ord>(from: &T, at: &T, to: &T) -> bool {
    if from < to { from < at && at < to } else { from < at || at < to }
}

/// The hash that stands as the first label of an NSEC3 record of the zone (RFC 5155 section 3).
fn hashed_owner(owner: &DnsName, zone: &DnsName) -> Option<Vec<u8>> {
    let label = std::str::from_utf8(owner.labels().next()?).ok()?;
    let hash = base32_hex(label).ok()?;
    (owner.parent().as_ref() == Some(zone)).then_some(hash)
}

fn wildcard_below(name: &DnsName) -> Option<DnsName> {
    DnsName::parse("*", name).ok()
}

/// The ancestor of the name, or the name, that is one label longer than the encloser.
fn next_closer(name: &DnsName, encloser: &DnsName) -> Option<DnsName> {
    let mut closer = name.clone();
    while closer.parent().as_ref() != Some(encloser) {
        closer = closer.parent()?;
    }
    Some(closer)
}

#[cfg(test)]
#[path = "denial_tests.rs"]
mod tests;

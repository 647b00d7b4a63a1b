//! What of the former zone goes into the new one: all that the new one does not decide itself. The addresses of the names
//! that are served here are ours from now on; mail goes where it went, unless somebody said otherwise.

use super::super::{Document, Record, RecordType, ZoneError};
use super::{FormerSource, FormerZone, Sets, is_sender_policy, set_words, sets};

/// What was carried over, and what was not.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CarriedOver {
    pub from: FormerSource,
    /// The sets, as shown: `@ MX`.
    pub sets: Vec<String>,
    /// Sets that the new zone has others for.
    pub left: Vec<String>,
    /// Where visitors went that come to this host now: addresses and aliases of names that the new zone has.
    pub replaced: Vec<String>,
    pub records: usize,
    pub signed: bool,
}

/// Types that say where a name's visitors go: A, AAAA, CNAME, DNAME, SVCB, HTTPS.
pub(super) const LEADS_VISITORS: [u16; 6] = [1, 28, 5, 39, 64, 65];

/// Puts into a new zone what the former one has beside it. The added lines stand at the end, under a line that says where
/// they are from.
///
/// # Errors
/// The zone with these lines could not be read: a record has a form that zone files cannot have.
pub fn carry_over(new: &Document, former: &FormerZone) -> Result<(Document, CarriedOver), ZoneError> {
    let (own, old) = (sets(new.records()), sets(&former.records));
    let mut carried = CarriedOver {
        from: former.from.clone(),
        sets: vec![],
        left: vec![],
        replaced: vec![],
        records: 0,
        signed: former.signed,
    };
    let mut lines: Vec<String> = Vec::new();
    for ((owner, record_type), records) in &old {
        let shown = set_words(owner, *record_type, &former.origin);
        let kept: Vec<&&Record> = records.iter().filter(|record| goes_along(record, &own)).collect();
        // Who serves the zone from now on is the new zone's to say.
        let is_own_affair = *record_type == RecordType::NS && **owner == former.origin;
        if kept.is_empty() && !is_own_affair && !is_same(own.get(&(*owner, *record_type)), records) {
            match LEADS_VISITORS.contains(&record_type.0) {
                true => carried.replaced.push(shown.clone()),
                false => carried.left.push(shown.clone()),
            }
        }
        if !kept.is_empty() {
            carried.sets.push(shown);
            carried.records += kept.len();
            lines.extend(kept.iter().map(|record| record.to_string()));
        }
    }
    if lines.is_empty() {
        return Ok((new.clone(), carried));
    }
    let mut text = new.source().to_vec();
    if !text.ends_with(b"\n") {
        text.push(b'\n');
    }
    let from = match &former.from {
        FormerSource::Transfer(server) | FormerSource::Questions(server) => format!("the zone at {server}"),
        FormerSource::File(_) => "the former provider's zone file".into(),
    };
    text.extend(format!("; Carried over from {from}:\n").bytes());
    text.extend(lines.iter().flat_map(|line| line.bytes().chain([b'\n'])));
    Ok((Document::parse(text, new.origin())?, carried))
}

fn is_same(own: Option<&Vec<&Record>>, old: &[&Record]) -> bool {
    own.is_some_and(|own| old.iter().all(|record| own.iter().any(|other| other.data == record.data)))
}

fn goes_along(record: &Record, own: &Sets<'_>) -> bool {
    let has = |kind: RecordType| own.contains_key(&(&record.owner, kind));
    let kind = record.record_type();
    let own_addresses = has(RecordType::A) || has(RecordType::AAAA) || has(RecordType::CNAME);
    if LEADS_VISITORS.contains(&kind.0) && own_addresses {
        return false;
    }
    // Nothing stands beside an alias (RFC 1034 section 3.6.2), and nothing is seen of a name that is delegated.
    let own_any = own.keys().any(|(owner, _)| **owner == record.owner);
    let is_alone = [RecordType::CNAME, RecordType::NS, RecordType::DS].contains(&kind);
    if is_alone && own_any || has(RecordType::CNAME) {
        return false;
    }
    match own.get(&(&record.owner, kind)) {
        None => true,
        // Texts stand side by side, but for a second sender policy.
        Some(present) if kind == RecordType::TXT => {
            let is_there = present.iter().any(|other| other.data == record.data);
            let policies = is_sender_policy(&record.data) && present.iter().any(|other| is_sender_policy(&other.data));
            !is_there && !policies
        }
        Some(_) => false,
    }
}

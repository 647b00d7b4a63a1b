//! A zone as data, read by the codec crate's own zone file reader (not by the program's; it knows no units such as
//! `1h`, and no `@` in record data), and its answers: data,
//! referrals with glue, aliases, "no such name" and "no such data".

use std::collections::BTreeMap;

use bytes::Bytes;
use domain::base::iana::{Class, Rcode, Rtype};
use domain::base::name::{FlattenInto, Name, ToName};
use domain::base::{Message, MessageBuilder, Record};
use domain::rdata::ZoneRecordData;
use domain::zonefile::inplace::{Entry, Zonefile};

pub(crate) type ZoneName = Name<Bytes>;
pub(crate) type ZoneRecord = Record<ZoneName, ZoneRecordData<Bytes, ZoneName>>;

#[derive(Debug, Clone)]
pub(crate) struct ZoneData {
    pub origin: ZoneName,
    records: BTreeMap<ZoneName, Vec<ZoneRecord>>,
}

pub(crate) fn zone_name(text: &str) -> Result<ZoneName, String> {
    Name::bytes_from_str(text).map_err(|error| format!("{text}: {error}"))
}

impl ZoneData {
    /// Reads a master file.
    pub fn read(origin: &str, text: &str) -> Result<Self, String> {
        let origin = zone_name(origin)?;
        let mut file = Zonefile::from(text);
        file.extend_from_slice(b"\n");
        file.set_origin(origin.clone());
        file.set_default_class(Class::IN);
        let mut zone = Self { origin, records: BTreeMap::new() };
        loop {
            match file.next_entry().map_err(|error| format!("the stand-in cannot read it: {error:?}"))? {
                None => {
                    super::signing::sign(&mut zone, text)?;
                    return Ok(zone);
                }
                Some(Entry::Record(record)) => zone.add(record.flatten_into()),
                Some(Entry::Include { .. }) => return Err("$INCLUDE is not read by the stand-in".into()),
            }
        }
    }

    pub fn add(&mut self, record: ZoneRecord) {
        self.records.entry(record.owner().clone()).or_default().push(record);
    }

    pub fn retain(&mut self, keep: impl Fn(&ZoneRecord) -> bool) {
        self.records.values_mut().for_each(|records| records.retain(&keep));
        self.records.retain(|_, records| !records.is_empty());
    }

    /// The types at each name that is the zone's own: not what lies below a cut. In canonical order.
    pub fn own_sets(&self) -> Vec<(ZoneName, Vec<Rtype>)> {
        let mut own = Vec::new();
        for (owner, records) in &self.records {
            let is_below = self.cut_above(owner).is_some_and(|cut| cut[0].owner() != owner);
            if !is_below {
                let types: std::collections::BTreeSet<Rtype> = records.iter().map(|record| record.rtype()).collect();
                own.push((owner.clone(), types.into_iter().collect()));
            }
        }
        own
    }

    pub fn at(&self, name: &ZoneName, rtype: Rtype) -> Vec<&ZoneRecord> {
        self.records.get(name).into_iter().flatten().filter(|record| record.rtype() == rtype).collect()
    }

    /// The delegation at or above the name, below the apex.
    fn cut_above(&self, name: &ZoneName) -> Option<Vec<&ZoneRecord>> {
        let mut cut = None;
        for suffix in name.iter_suffixes() {
            let suffix: ZoneName = suffix.to_name();
            if suffix == self.origin {
                break;
            }
            let names = self.at(&suffix, Rtype::NS);
            if !names.is_empty() {
                cut = Some(names);
            }
        }
        cut
    }

    /// The whole zone in one message, as a transfer of a small zone: the start of authority first and last.
    pub fn whole(&self, request: &Message<Bytes>) -> Vec<u8> {
        let mut answer = MessageBuilder::new_vec().start_answer(request, Rcode::NOERROR).expect("a vector has room");
        answer.header_mut().set_aa(true);
        let soa = self.at(&self.origin, Rtype::SOA);
        let others = self.records.values().flatten().filter(|record| record.rtype() != Rtype::SOA);
        for record in soa.iter().copied().chain(others).chain(soa.iter().copied()) {
            answer.push(record).expect("a vector has room");
        }
        answer.finish()
    }

    /// Answers a question for a name inside the zone.
    pub fn answer(&self, request: &Message<Bytes>, name: &ZoneName, rtype: Rtype) -> Vec<u8> {
        let builder = MessageBuilder::new_vec();
        let mut answer = builder.start_answer(request, Rcode::NOERROR).expect("a vector has room");
        if let Some(names) = self.cut_above(name).filter(|_| rtype != Rtype::DS || self.at(name, Rtype::NS).is_empty())
        {
            let mut authority = answer.authority();
            names.iter().for_each(|record| authority.push(*record).expect("a vector has room"));
            let mut additional = authority.additional();
            for record in names {
                let ZoneRecordData::Ns(ns) = record.data() else { continue };
                for rtype in [Rtype::A, Rtype::AAAA] {
                    for glue in self.at(ns.nsdname(), rtype) {
                        additional.push(glue).expect("a vector has room");
                    }
                }
            }
            return additional.finish();
        }
        answer.header_mut().set_aa(true);
        let mut at = name.clone();
        for _ in 0..8 {
            let found = self.at(&at, rtype);
            if !found.is_empty() {
                found.iter().for_each(|record| answer.push(*record).expect("a vector has room"));
                // Signatures come along with what they cover, for those who ask for them (RFC 4035 section 3.1).
                if request.opt().is_some_and(|opt| opt.dnssec_ok()) {
                    let covers = |record: &&&ZoneRecord| match record.data() {
                        ZoneRecordData::Rrsig(signature) => signature.type_covered() == rtype,
                        _ => false,
                    };
                    let signatures = self.at(&at, Rtype::RRSIG);
                    signatures
                        .iter()
                        .filter(covers)
                        .for_each(|record| answer.push(*record).expect("a vector has room"));
                }
                return answer.finish();
            }
            let alias = self.at(&at, Rtype::CNAME).first().copied();
            let Some(alias) = alias else { break };
            answer.push(alias).expect("a vector has room");
            match alias.data() {
                ZoneRecordData::Cname(target) if target.cname().ends_with(&self.origin) => at = target.cname().clone(),
                _ => return answer.finish(),
            }
        }
        // An empty non-terminal exists: something lies below it.
        if !self.records.keys().any(|owner| owner.ends_with(&at)) {
            answer.header_mut().set_rcode(Rcode::NXDOMAIN);
        }
        let mut authority = answer.authority();
        for soa in self.at(&self.origin, Rtype::SOA) {
            authority.push(soa).expect("a vector has room");
        }
        // All that proves anything: these zones are small.
        let is_proof = |record: &&ZoneRecord| match record.data() {
            ZoneRecordData::Rrsig(signature) => signature.type_covered() == Rtype::NSEC,
            _ => record.rtype() == Rtype::NSEC,
        };
        if request.opt().is_some_and(|opt| opt.dnssec_ok()) {
            let proofs = self.records.values().flatten().filter(is_proof);
            proofs.for_each(|record| authority.push(record).expect("a vector has room"));
        }
        authority.finish()
    }
}

/// What a resolver would say about the root, without asking it.
pub(crate) fn root_hint(request: &Message<Bytes>) -> Vec<u8> {
    let mut answer = MessageBuilder::new_vec().start_answer(request, Rcode::NOERROR).expect("a vector has room");
    let name = zone_name("a.root.example.").expect("a constant name");
    let data = ZoneRecordData::Ns(domain::rdata::Ns::new(name));
    let record: ZoneRecord = Record::new(Name::root_bytes(), Class::IN, domain::base::Ttl::from_secs(60), data);
    answer.push(record).expect("a vector has room");
    answer.finish()
}

#[cfg(test)]
mod tests {
    use super::*;

    const ZONE: &str = "$TTL 60\n@ IN SOA ns1 host 1 2 3 4 5\n@ IN NS ns1\nns1 IN A 192.0.2.1\nwww CNAME gullrock.example.\n@ A 192.0.2.2\n\
                        dock IN NS ns.dock\nns.dock IN A 192.0.2.3\na.b TXT deep\n";

    /// Response code, authority bit, and the records of the three sections as text.
    fn asked(name: &str, rtype: Rtype) -> (Rcode, bool, [Vec<String>; 3]) {
        let zone = ZoneData::read("gullrock.example.", ZONE).unwrap();
        let name = zone_name(name).unwrap();
        let mut query = MessageBuilder::new_vec().question();
        query.push((&name, rtype)).unwrap();
        let query = Message::from_octets(Bytes::from(query.finish())).unwrap();
        let answer = Message::from_octets(Bytes::from(zone.answer(&query, &name, rtype))).unwrap();
        let (_, first, second, third) = answer.sections().unwrap();
        let sections = [first, second, third].map(|section| {
            let records = section.limit_to::<ZoneRecordData<Bytes, domain::base::ParsedName<Bytes>>>();
            let records = records.map(Result::unwrap);
            records.map(|record| format!("{} {}", record.owner(), record.rtype())).collect()
        });
        (answer.header().rcode(), answer.header().aa(), sections)
    }

    #[test]
    fn data_aliases_referrals_and_what_is_not_there() {
        let (rcode, aa, [answer, ..]) = asked("www.gullrock.example", Rtype::A);
        assert_eq!((rcode, aa), (Rcode::NOERROR, true));
        assert_eq!(answer, ["www.gullrock.example CNAME", "gullrock.example A"]);
        let (_, aa, [answer, authority, additional]) = asked("crane.dock.gullrock.example", Rtype::A);
        assert_eq!((aa, answer.len()), (false, 0));
        assert_eq!(
            (authority, additional),
            (vec!["dock.gullrock.example NS".into()], vec!["ns.dock.gullrock.example A".into()])
        );
        let (rcode, _, [_, authority, _]) = asked("nothing.gullrock.example", Rtype::A);
        assert_eq!((rcode, authority), (Rcode::NXDOMAIN, vec!["gullrock.example SOA".into()]));
        assert_eq!(asked("b.gullrock.example", Rtype::A).0, Rcode::NOERROR, "an empty non-terminal exists");
    }

    #[test]
    fn a_zone_that_cannot_be_read_is_refused() {
        assert!(ZoneData::read("gullrock.example.", "www A 192.0.2.999\n").is_err());
    }
}

//! Proofs by DNS as records of a zone (RFC 8555 section 8.4): added beside what others have placed, and only ours taken
//! out again.

use jiff::civil::Date;

use crate::change::Change;
use crate::name::{DnsName, DnsNameError, Host};
use crate::zone::KeptZone;
use crate::zone::{EditError, Record, RecordData, RecordType};

/// Not to be cached (RFC 1035 section 3.2.1): the next order has another proof, and a resolver that still had this one
/// would have it refused.
const TTL: u32 = 0;

/// Where a CA looks for the proof of a name.
pub fn proof_name(name: &Host) -> Result<DnsName, DnsNameError> {
    DnsName::absolute(&format!("_acme-challenge.{name}"))
}

/// The zone with the proofs; `None` if it has them all.
pub fn with_proofs(kept: &KeptZone, proofs: &[(DnsName, String)], today: Date) -> Result<Option<Change>, EditError> {
    let mut added: Vec<Record> = Vec::new();
    for (owner, content) in proofs {
        // All records of a set have one TTL (RFC 2181 section 5.2).
        let ttl = kept.document.records().find(|record| is_at(record, owner)).map_or(TTL, |record| record.ttl);
        let record = Record { owner: owner.clone(), ttl, data: RecordData::Txt([content.clone().into_bytes()].into()) };
        let there = kept.document.records().any(|present| present.owner == *owner && present.data == record.data);
        if !there && !added.contains(&record) {
            added.push(record);
        }
    }
    if added.is_empty() {
        return Ok(None);
    }
    let edited = kept.document.with_records(&added, today)?;
    Ok(Some(kept.change(&edited, &[], &added)))
}

/// The zone without the proofs; `None` if it has none of them.
pub fn without_proofs(kept: &KeptZone, proofs: &[(DnsName, String)], today: Date) -> Result<Option<Change>, EditError> {
    let is_ours = |record: &Record| {
        proofs.iter().any(|(owner, content)| {
            is_at(record, owner) && record.data == RecordData::Txt([content.clone().into_bytes()].into())
        })
    };
    let removed: Vec<Record> = kept.document.records().filter(|record| is_ours(record)).cloned().collect();
    if removed.is_empty() {
        return Ok(None);
    }
    let edited = kept.document.without_records(&removed, today)?;
    Ok(Some(kept.change(&edited, &removed, &[])))
}

fn is_at(record: &Record, owner: &DnsName) -> bool {
    record.owner == *owner && record.record_type() == RecordType::TXT
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::AccountName;
    use crate::name::Hostname;
    use crate::zone::Document;
    use crate::zone::{Zone, ZoneHome, ZonePlace};

    fn kept(text: &str) -> KeptZone {
        let document = Document::parse(text, &DnsName::absolute("gullrock.example").unwrap()).unwrap();
        let name = Hostname::parse("gullrock.example").unwrap();
        let zone = Zone::new(name, AccountName::parse("boatyard").unwrap(), ZoneHome::Here);
        KeptZone { zone, document, place: ZonePlace::File { path: "/zone".into() } }
    }

    fn content(change: Change) -> String {
        let Change::WriteFile(write) = change else { panic!("{change:?}") };
        String::from_utf8(write.content.to_vec()).unwrap()
    }

    #[test]
    fn proofs_come_and_go_and_leave_those_of_others() {
        let zone = "$TTL 60\n@ SOA ns1 host 7 4h 30m 4w 5m\n@ NS ns1.example.\n_acme-challenge 300 TXT \"another\"\n";
        let today = jiff::civil::date(2026, 11, 23);
        let at = proof_name(&Host::parse("gullrock.example").unwrap()).unwrap();
        let proofs = [(at.clone(), "one".to_string()), (at.clone(), "two".to_string()), (at, "one".to_string())];
        let with = content(with_proofs(&kept(zone), &proofs, today).unwrap().unwrap());
        assert_eq!(with.matches("300\tIN\tTXT").count(), 2, "{with}");
        assert_eq!(with_proofs(&kept(&with), &proofs, today).unwrap(), None);
        let without = content(without_proofs(&kept(&with), &proofs, today).unwrap().unwrap());
        assert_eq!(without.matches("TXT").count(), 1, "{without}");
        assert!(without.contains("\"another\""));
        assert_eq!(without_proofs(&kept(zone), &proofs, today).unwrap(), None);
    }
}

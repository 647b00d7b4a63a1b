//! Any bytes as a master file: no panic, what parses prints back byte for byte, and edits of it parse again. The same bytes
//! as the data of a record.

#![no_main]

use brightharbor_core::name::DnsName;
use brightharbor_core::zone::rules::judge;
use brightharbor_core::zone::{Document, Record, RecordData, RecordType};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let origin = DnsName::absolute("gullrock.example").expect("a name");
    let mut fetch = |_: &str| Ok(bytes.to_vec());
    let Ok(zone) = Document::parse_with(bytes, &origin, &mut fetch) else { return };
    assert_eq!(zone.source(), bytes);
    let _ = judge(&zone);
    for record in zone.records() {
        let wire = record.data.to_wire();
        assert!(RecordData::from_wire(record.record_type(), &wire).is_some(), "{record}");
    }
    let owner = DnsName::parse("fuzzed", &origin).expect("a name");
    let new = Record { owner, ttl: 60, data: RecordData::Txt([b"x".to_vec()].into()) };
    let today = jiff::civil::date(2026, 11, 23);
    if let Ok(edited) = zone.with_records(&[new], today) {
        assert_eq!(edited.records().count(), zone.records().count() + 1);
    }
    if let Ok(lowered) = zone.with_ttls(|_| Some(300), today) {
        let soa = |record: &&Record| !matches!(record.data, RecordData::Soa(_));
        assert!(lowered.records().filter(soa).all(|record| record.ttl == 300));
    }
    assert_eq!(zone.served_records().len(), zone.records().count());
    zone.records().for_each(|record| {
        let _ = zone.place_of(record);
    });
    // The same bytes as data of any type.
    if let [high, low, wire @ ..] = bytes {
        let record_type = RecordType(u16::from_be_bytes([*high, *low]));
        if let Some(data) = RecordData::from_wire(record_type, wire) {
            let _ = data.to_string();
        }
    }
});

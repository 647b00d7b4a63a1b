//! Which set of an answer counts, and what goes untold because it is another zone's affair.

use super::*;
use crate::zone::RecordData;

fn name(text: &str) -> DnsName {
    DnsName::absolute(text).unwrap()
}

fn record(owner: &str, record_type: RecordType, wire: &[u8]) -> Record {
    Record { owner: name(owner), ttl: 60, data: RecordData::from_wire(record_type, wire).unwrap() }
}

fn signature_by(signer: &str) -> Record {
    let wire = [&[0, 1, 13, 3, 0, 0, 0, 60, 0, 0, 0, 9, 0, 0, 0, 1, 0, 7][..], name(signer).wire(), &[1; 64]].concat();
    record("www.gullrock.example", RecordType::RRSIG, &wire)
}

fn flaw(rcode: u16, answer: Vec<Record>) -> Option<Flaw> {
    let reply = Reply { rcode, authoritative: true, answer, ..Reply::default() };
    let (zone, now) = (name("gullrock.example"), Timestamp::from_second(5).unwrap());
    flaw_of(&reply, &name("www.gullrock.example"), RecordType::A, &zone, &[], now)
}

#[test]
fn what_is_said_of_the_name_itself_has_to_be_signed() {
    let address = || record("www.gullrock.example", RecordType::A, &[192, 0, 2, 1]);
    let alias = || record("www.gullrock.example", RecordType::CNAME, name("gullrock.example").wire());
    assert_eq!(flaw(0, vec![address()]), Some(Flaw::Missing));
    assert_eq!(flaw(0, vec![alias()]), Some(Flaw::Missing));
    assert_eq!(flaw(0, vec![address(), signature_by("gullrock.example")]), Some(Flaw::Stranger { key_tag: 7 }));
    assert_eq!(flaw(0, vec![]), Some(Flaw::Unproven));
    assert_eq!(flaw(3, vec![]), Some(Flaw::Unproven));
    let renamed = record("gullrock.example", RecordType(39), name("oldquay.example").wire());
    assert_eq!(flaw(0, vec![alias(), renamed]), Some(Flaw::Missing), "the DNAME is what has to be signed");
}

#[test]
fn what_another_zone_says_and_what_failed_is_not_judged() {
    let address = record("www.gullrock.example", RecordType::A, &[192, 0, 2, 1]);
    assert_eq!(flaw(0, vec![address.clone(), signature_by("www.gullrock.example")]), None, "a zone below");
    assert_eq!(flaw(2, vec![address]), None, "a failure is told by itself");
}

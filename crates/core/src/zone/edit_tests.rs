//! Edits on small zones: which bytes change, and what is refused.

use super::*;
use crate::name::DnsName;

const TODAY: Date = Date::constant(2026, 11, 23);
const BOATYARD: &str = "$TTL 3600\n\
@ IN SOA ns1.saltmarsh.example. hostmaster.saltmarsh.example. ( 2026112001 ; serial\n  14400 1800 2419200 300 )\n\
@ IN NS ns1.saltmarsh.example.\n\
@ IN A 192.0.2.30 ; slipway\n\
\n\
; below: kept by the harbour master\n\
crane IN CNAME @\n\
dock IN NS ns1.dock\n";

fn zone() -> Document {
    Document::parse(BOATYARD, &DnsName::absolute("gullrock.example").unwrap()).unwrap()
}

fn address(owner: &str, text: &str) -> Record {
    let owner = DnsName::absolute(owner).unwrap();
    Record { owner, ttl: 3600, data: RecordData::A(text.parse().unwrap()) }
}

#[test]
fn only_the_new_line_and_the_serial_differ() {
    let edited = zone().with_records(&[address("shop.gullrock.example", "192.0.2.31")], TODAY).unwrap();
    let expected = BOATYARD.replace("2026112001", "2026112301") + "shop\t3600\tIN\tA\t192.0.2.31\n";
    assert_eq!(String::from_utf8_lossy(edited.source()), expected);
}

#[test]
fn the_next_serial_is_above_what_servers_have() {
    let add = |zone: Document| zone.with_records(&[address("shop.gullrock.example", "192.0.2.31")], TODAY).unwrap();
    let serial = |served: u32| add(zone().seen_with(Some(served))).soa().serial;
    assert_eq!(serial(2026112305), 2026112306, "that of today that was heard");
    assert_eq!((serial(2026111901), serial(2026112001)), (2026112301, 2026112301), "older or the same");
    assert_eq!(add(zone().seen_with(None)).soa().serial, 2026112301);
    // The same records under a higher one.
    let raised = zone().raised_above(2026112309, TODAY).unwrap();
    assert_eq!(String::from_utf8_lossy(raised.source()), BOATYARD.replace("2026112001", "2026112310"));
}

#[test]
fn what_goes_back_is_above_all_that_was_heard() {
    let newer = zone().with_records(&[address("shop.gullrock.example", "192.0.2.31")], TODAY).unwrap();
    let back = |served: &[u32]| zone().put_back_after(&newer, served, TODAY).map(|zone| zone.soa().serial);
    assert_eq!(
        (back(&[]), back(&[2026112001])),
        (Some(2026112302), Some(2026112302)),
        "the newer one may be loaded yet"
    );
    assert_eq!(back(&[2026112001, 2026112309]), Some(2026112310));
    assert!(zone().put_back_after(&zone(), &[2026112001], TODAY).is_none(), "nothing newer was ever out");
}

#[test]
fn a_second_address_goes_beside_the_first() {
    let edited = zone().with_records(&[address("gullrock.example", "192.0.2.32")], TODAY).unwrap();
    let text = String::from_utf8_lossy(edited.source()).into_owned();
    assert!(text.contains("slipway\n@\t3600\tIN\tA\t192.0.2.32\n\n; below"), "{text}");
}

#[test]
fn a_file_without_final_newline_and_another_origin_are_minded() {
    let source = format!("{BOATYARD}$ORIGIN quay.gullrock.example.\nend 60 A 192.0.2.33");
    let zone = Document::parse(source, &DnsName::absolute("gullrock.example").unwrap()).unwrap();
    let edited = zone.with_records(&[address("shop.gullrock.example", "192.0.2.31")], TODAY).unwrap();
    let text = String::from_utf8_lossy(edited.source()).into_owned();
    assert!(text.ends_with("end 60 A 192.0.2.33\nshop.gullrock.example.\t3600\tIN\tA\t192.0.2.31"), "{text}");
}

#[test]
fn what_would_break_the_zone_is_refused() {
    let refused = |record: Record| zone().with_records(&[record], TODAY).unwrap_err();
    assert!(matches!(refused(address("gullrock.example", "192.0.2.30")), EditError::Duplicate(_)));
    assert!(matches!(refused(address("crane.gullrock.example", "192.0.2.1")), EditError::BesideAlias { .. }));
    assert!(matches!(refused(address("boat.dock.gullrock.example", "192.0.2.1")), EditError::BelowDelegation { .. }));
    assert!(matches!(refused(address("choir.example", "192.0.2.1")), EditError::OutOfZone(..)));
    let glue = address("ns1.dock.gullrock.example", "192.0.2.34");
    assert!(zone().with_records(&[glue], TODAY).is_ok(), "glue may stand below the cut");
}

#[test]
fn a_line_that_took_its_owner_from_the_removed_one_says_it_itself() {
    let source = format!("{BOATYARD}www A 192.0.2.40\n\t\tTXT \"slipway\" ; kept\n\tA 192.0.2.41\n");
    let zone = Document::parse(source, &DnsName::absolute("gullrock.example").unwrap()).unwrap();
    let edited = zone.without_records(&[address("www.gullrock.example", "192.0.2.40")], TODAY).unwrap();
    let text = String::from_utf8_lossy(edited.source()).into_owned();
    assert!(text.ends_with("dock IN NS ns1.dock\nwww\t\tTXT \"slipway\" ; kept\n\tA 192.0.2.41\n"), "{text}");
}

#[test]
fn one_record_in_place_of_another_and_what_cannot_be_taken_away() {
    let old = address("gullrock.example", "192.0.2.30");
    let new = address("gullrock.example", "192.0.2.50");
    let edited = zone().with_replaced(std::slice::from_ref(&old), &[new], TODAY).unwrap();
    let text = String::from_utf8_lossy(edited.source()).into_owned();
    assert!(text.contains("@\t3600\tIN\tA\t192.0.2.50\n") && !text.contains("192.0.2.30"), "{text}");
    let soa = zone().records().next().unwrap().clone();
    assert_eq!(zone().without_records(&[soa], TODAY).unwrap_err(), EditError::Soa);
    let generated = format!("{BOATYARD}$GENERATE 1-2 b$ A 192.0.2.$\n");
    let generated = Document::parse(generated, &DnsName::absolute("gullrock.example").unwrap()).unwrap();
    let refused = generated.without_records(&[address("b1.gullrock.example", "192.0.2.1")], TODAY);
    assert_eq!(refused.unwrap_err(), EditError::NotALine { line: 10 });
}

#[test]
fn an_edit_that_would_change_the_ttl_of_another_record_is_refused() {
    let source = "@ 60 SOA ns1 host 7 4 3 2 1\n@ 60 NS ns1\nns1 300 A 192.0.2.1\nwww A 192.0.2.2\n";
    let zone = Document::parse(source, &DnsName::absolute("gullrock.example").unwrap()).unwrap();
    let first = zone.records().nth(2).unwrap().clone();
    assert_eq!(zone.without_records(&[first], TODAY).unwrap_err(), EditError::OthersChange);
}

proptest::proptest! {
    /// Whatever is taken away or added: the other records, their TTLs included, stay as they were.
    #[test]
    fn an_edit_changes_nothing_else(
        lines in proptest::collection::vec((0..4_usize, proptest::bool::ANY, 1..250_u8), 1..12),
        gone in 0..12_usize,
    ) {
        let owners = ["www", "ftp", "dock.quay", "@"];
        let mut source = "$TTL 3600\n@ SOA ns1 host 7 4 3 2 1\n@ NS ns1\n".to_string();
        for (owner, omit, last) in &lines {
            let owner = if *omit { "" } else { owners[*owner] };
            source.push_str(&format!("{owner}\tA 192.0.2.{last}\n"));
        }
        let zone = Document::parse(source, &DnsName::absolute("gullrock.example").unwrap()).unwrap();
        let records: Vec<Record> = zone.records().skip(2).cloned().collect();
        let victim = records[gone % records.len()].clone();
        let edited = zone.without_records(std::slice::from_ref(&victim), TODAY).unwrap();
        let left: Vec<Record> = edited.records().skip(2).cloned().collect();
        let wanted: Vec<Record> = records.iter().filter(|record| **record != victim).cloned().collect();
        proptest::prop_assert_eq!(left, wanted);
    }
}

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

/// A zone, what is taken away and what is added in master file form, and the zone afterwards; the first line is put before.
const LAYOUTS: &[(&str, &str, &str, &str)] = &[
    // A line that is added ends as its neighbours do.
    ("www A 192.0.2.1\r\n", "", "www A 192.0.2.2", "www A 192.0.2.1\r\nwww\t60\tIN\tA\t192.0.2.2\r\n"),
    (
        "www A 192.0.2.1\r\nquay A 192.0.2.9\n",
        "",
        "quay A 192.0.2.2",
        "www A 192.0.2.1\r\nquay A 192.0.2.9\nquay\t60\tIN\tA\t192.0.2.2\n",
    ),
    ("www A 192.0.2.1", "", "www A 192.0.2.2", "www A 192.0.2.1\nwww\t60\tIN\tA\t192.0.2.2"),
    (
        "a A 192.0.2.9\r\nwww A 192.0.2.1",
        "",
        "www A 192.0.2.2",
        "a A 192.0.2.9\r\nwww A 192.0.2.1\nwww\t60\tIN\tA\t192.0.2.2",
    ),
    ("www A 192.0.2.1\r\n", "", "dock A 192.0.2.2", "www A 192.0.2.1\r\ndock\t60\tIN\tA\t192.0.2.2\r\n"),
    ("www A 192.0.2.1\r\n\r\n; end\r\n", "www A 192.0.2.1", "", "\r\n; end\r\n"),
    (
        "www A 192.0.2.1\rquay A 192.0.2.9\r",
        "",
        "quay A 192.0.2.2",
        "www A 192.0.2.1\rquay A 192.0.2.9\rquay\t60\tIN\tA\t192.0.2.2\r",
    ),
    // A line that takes its owner or its TTL from the one that goes says it itself from then on.
    ("www A 192.0.2.1\n  A 192.0.2.2\n", "www A 192.0.2.1", "", "www  A 192.0.2.2\n"),
    (
        "www A 192.0.2.1\n$ORIGIN sub\n  A 192.0.2.2\n",
        "www A 192.0.2.1",
        "",
        "$ORIGIN sub\nwww.gullrock.example.  A 192.0.2.2\n",
    ),
    (
        "$ORIGIN sub\nwww A 192.0.2.1\n$ORIGIN gullrock.example.\n  A 192.0.2.2\n",
        "www.sub A 192.0.2.1",
        "",
        "$ORIGIN sub\n$ORIGIN gullrock.example.\nwww.sub  A 192.0.2.2\n",
    ),
    (
        "$ORIGIN sub\nwww A 192.0.2.1\n",
        "",
        "www.sub A 192.0.2.2",
        "$ORIGIN sub\nwww A 192.0.2.1\nwww\t60\tIN\tA\t192.0.2.2\n",
    ),
    (
        "www A 192.0.2.1 ; one\nwww A 192.0.2.2 ; two\n",
        "www A 192.0.2.1",
        "www A 192.0.2.3",
        "www A 192.0.2.2 ; two\nwww\t60\tIN\tA\t192.0.2.3\n",
    ),
    ("www TXT ( \"a\"\n  \"b\" ) ; two lines\nquay A 192.0.2.9\n", "www TXT \"a\" \"b\"", "", "quay A 192.0.2.9\n"),
];

#[test]
fn each_layout_is_edited_as_it_was_written() {
    let origin = DnsName::absolute("gullrock.example").unwrap();
    let head = |serial: u8| format!("$TTL 60\n@ SOA ns1 host {serial} 4 3 2 1\n@ NS ns1\n");
    let record = |line: &str| {
        let zone = Document::parse(format!("{}{line}\n", head(7)), &origin).unwrap();
        zone.records().nth(2).unwrap().clone()
    };
    for (before, gone, new, after) in LAYOUTS {
        let zone = Document::parse(format!("{}{before}", head(7)), &origin).unwrap();
        let list = |line: &str| if line.is_empty() { vec![] } else { vec![record(line)] };
        let edited =
            zone.with_replaced(&list(gone), &list(new), TODAY).unwrap_or_else(|error| panic!("{before}: {error}"));
        let serial = edited.soa().serial;
        let text = String::from_utf8(edited.source().to_vec()).unwrap().replace(&serial.to_string(), "8");
        assert_eq!(text, format!("{}{after}", head(8)), "{before:?} -{gone} +{new}");
    }
}

#[test]
fn records_that_inherit_a_ttl_keep_it_when_the_line_before_them_changes() {
    let origin = DnsName::absolute("gullrock.example").unwrap();
    let source = "@ 60 SOA ns1 host 7 4 3 2 1\n@ 60 NS ns1\nns1 300 A 192.0.2.1\nwww A 192.0.2.2\nquay A 192.0.2.3\n";
    let zone = Document::parse(source, &origin).unwrap();
    let first = zone.records().nth(2).unwrap().clone();
    let without = zone.without_records(std::slice::from_ref(&first), TODAY).unwrap();
    let text = String::from_utf8(without.source().to_vec()).unwrap();
    assert!(text.ends_with("@ 60 NS ns1\nwww 300 A 192.0.2.2\nquay A 192.0.2.3\n"), "{text}");
    let more = Record { ttl: 60, data: RecordData::A("192.0.2.9".parse().unwrap()), ..first };
    let with = zone.with_records(&[more], TODAY).unwrap();
    let text = String::from_utf8(with.source().to_vec()).unwrap();
    assert!(text.ends_with("ns1\t60\tIN\tA\t192.0.2.9\nwww 300 A 192.0.2.2\nquay A 192.0.2.3\n"), "{text}");
}

#[test]
fn a_start_of_authority_that_is_said_twice_is_raised_twice() {
    let origin = DnsName::absolute("gullrock.example").unwrap();
    let soa = "@ 60 SOA ns1 host 7 4 3 2 1\n";
    let zone = Document::parse(format!("{soa}@ 60 NS ns1\n{soa}www 60 A 192.0.2.2\n"), &origin).unwrap();
    let last = zone.records().last().unwrap().clone();
    let edited = zone.without_records(&[last], TODAY).unwrap();
    let text = String::from_utf8(edited.source().to_vec()).unwrap();
    assert_eq!(text.matches(&format!("host {} 4", edited.soa().serial)).count(), 2, "{text}");
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

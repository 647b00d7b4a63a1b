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

/// Further layouts, with line feeds; the test writes each with other line ends too.
const MORE_LAYOUTS: &[(&str, &str, &str, &str)] = &[
    // One line goes, and whatever stands around it stays.
    ("a A 192.0.2.1\nb A 192.0.2.2\nc A 192.0.2.3\n", "a A 192.0.2.1", "", "b A 192.0.2.2\nc A 192.0.2.3\n"),
    ("a A 192.0.2.1\nb A 192.0.2.2\nc A 192.0.2.3\n", "b A 192.0.2.2", "", "a A 192.0.2.1\nc A 192.0.2.3\n"),
    ("a A 192.0.2.1\nb A 192.0.2.2\nc A 192.0.2.3\n", "c A 192.0.2.3", "", "a A 192.0.2.1\nb A 192.0.2.2\n"),
    (
        "; quays\na A 192.0.2.1 ; north\n; piers\nb A 192.0.2.2\n",
        "a A 192.0.2.1",
        "",
        "; quays\n; piers\nb A 192.0.2.2\n",
    ),
    ("a    IN   A      192.0.2.1\nb A 192.0.2.2\n", "a A 192.0.2.1", "", "b A 192.0.2.2\n"),
    ("a\tIN\tA\t192.0.2.1\nb A 192.0.2.2\n", "b A 192.0.2.2", "", "a\tIN\tA\t192.0.2.1\n"),
    ("a 300 IN A 192.0.2.1\nb A 192.0.2.2\n", "a 300 A 192.0.2.1", "", "b A 192.0.2.2\n"),
    ("a IN 300 A 192.0.2.1\nb A 192.0.2.2\n", "a 300 A 192.0.2.1", "", "b A 192.0.2.2\n"),
    ("a 5m A 192.0.2.1\nb A 192.0.2.2\n", "a 300 A 192.0.2.1", "", "b A 192.0.2.2\n"),
    ("A A 192.0.2.1\nb A 192.0.2.2\n", "a A 192.0.2.1", "", "b A 192.0.2.2\n"),
    ("a.gullrock.example. A 192.0.2.1\nb A 192.0.2.2\n", "a A 192.0.2.1", "", "b A 192.0.2.2\n"),
    ("a a 192.0.2.1\nb A 192.0.2.2\n", "a A 192.0.2.1", "", "b A 192.0.2.2\n"),
    ("a A (192.0.2.1)\nb A 192.0.2.2\n", "a A 192.0.2.1", "", "b A 192.0.2.2\n"),
    ("a A ( ; north\n 192.0.2.1 )\nb A 192.0.2.2\n", "a A 192.0.2.1", "", "b A 192.0.2.2\n"),
    ("a MX 10 m\na MX 20 n\n", "a MX 10 m", "", "a MX 20 n\n"),
    ("a MX 10 m\n  MX 20 n\n", "a MX 20 n", "", "a MX 10 m\n"),
    ("a MX 10 m\n  MX 20 n\n", "a MX 10 m", "", "a  MX 20 n\n"),
    ("a MX 10 m\n\tMX 20 n\n\tTXT x\n", "a MX 10 m", "", "a\tMX 20 n\n\tTXT x\n"),
    ("\n\n\na A 192.0.2.1\n\n\nb A 192.0.2.2\n\n", "a A 192.0.2.1", "", "\n\n\n\n\nb A 192.0.2.2\n\n"),
    ("a TXT \"one;two\" ; three\nb A 192.0.2.2\n", "a TXT \"one;two\"", "", "b A 192.0.2.2\n"),
    ("a TXT \"one\\\"two\"\nb A 192.0.2.2\n", "a TXT \"one\\\"two\"", "", "b A 192.0.2.2\n"),
    (
        "$TTL 300\na A 192.0.2.1\n$TTL 60\nb A 192.0.2.2\n",
        "a 300 A 192.0.2.1",
        "",
        "$TTL 300\n$TTL 60\nb A 192.0.2.2\n",
    ),
    ("\\097 A 192.0.2.1\nb A 192.0.2.2\n", "a A 192.0.2.1", "", "b A 192.0.2.2\n"),
    ("*.a A 192.0.2.1\nb A 192.0.2.2\n", "*.a A 192.0.2.1", "", "b A 192.0.2.2\n"),
    ("_sip._tcp SRV 1 2 5060 b\nb A 192.0.2.2\n", "_sip._tcp SRV 1 2 5060 b", "", "b A 192.0.2.2\n"),
    // One comes: behind the last one of its name, or at the end.
    ("a A 192.0.2.1\n", "", "a A 192.0.2.7", "a A 192.0.2.1\na\t60\tIN\tA\t192.0.2.7\n"),
    ("a A 192.0.2.1\nb A 192.0.2.2\n", "", "a A 192.0.2.7", "a A 192.0.2.1\na\t60\tIN\tA\t192.0.2.7\nb A 192.0.2.2\n"),
    (
        "a A 192.0.2.1\na TXT x\nb A 192.0.2.2\n",
        "",
        "a A 192.0.2.7",
        "a A 192.0.2.1\na TXT x\na\t60\tIN\tA\t192.0.2.7\nb A 192.0.2.2\n",
    ),
    (
        "a A 192.0.2.1 ; north\nb A 192.0.2.2\n",
        "",
        "a A 192.0.2.7",
        "a A 192.0.2.1 ; north\na\t60\tIN\tA\t192.0.2.7\nb A 192.0.2.2\n",
    ),
    ("a A 192.0.2.1\n; the end\n", "", "b A 192.0.2.7", "a A 192.0.2.1\n; the end\nb\t60\tIN\tA\t192.0.2.7\n"),
    ("a A 192.0.2.1\n\n", "", "b A 192.0.2.7", "a A 192.0.2.1\n\nb\t60\tIN\tA\t192.0.2.7\n"),
    (
        "a MX ( 10\n m )\nb A 192.0.2.2\n",
        "",
        "a MX 20 n",
        "a MX ( 10\n m )\na\t60\tIN\tMX\t20 n.gullrock.example.\nb A 192.0.2.2\n",
    ),
    ("$ORIGIN q\na A 192.0.2.1\n", "", "a.q A 192.0.2.7", "$ORIGIN q\na A 192.0.2.1\na\t60\tIN\tA\t192.0.2.7\n"),
    (
        "$ORIGIN q\na A 192.0.2.1\n$ORIGIN r\n",
        "",
        "a.q A 192.0.2.7",
        "$ORIGIN q\na A 192.0.2.1\na\t60\tIN\tA\t192.0.2.7\n$ORIGIN r\n",
    ),
    ("$TTL 300\na A 192.0.2.1\n", "", "a 300 A 192.0.2.7", "$TTL 300\na A 192.0.2.1\na\t300\tIN\tA\t192.0.2.7\n"),
    ("a A 192.0.2.1\n", "", "a TXT x", "a A 192.0.2.1\na\t60\tIN\tTXT\t\"x\"\n"),
    // One in the place of another.
    ("a A 192.0.2.1\nb A 192.0.2.2\n", "a A 192.0.2.1", "a A 192.0.2.7", "a\t60\tIN\tA\t192.0.2.7\nb A 192.0.2.2\n"),
    ("a A 192.0.2.1\nb A 192.0.2.2\n", "b A 192.0.2.2", "b A 192.0.2.7", "a A 192.0.2.1\nb\t60\tIN\tA\t192.0.2.7\n"),
    (
        "a MX 10 m\na MX 20 n\nb A 192.0.2.2\n",
        "a MX 10 m",
        "a MX 30 o",
        "a MX 20 n\na\t60\tIN\tMX\t30 o.gullrock.example.\nb A 192.0.2.2\n",
    ),
    (
        "a A 192.0.2.1\n  TXT x\nb A 192.0.2.2\n",
        "a A 192.0.2.1",
        "a A 192.0.2.7",
        "a  TXT x\na\t60\tIN\tA\t192.0.2.7\nb A 192.0.2.2\n",
    ),
];

/// Each line end that a file may have (RFC 1035 section 5.1 leaves it open).
const LINE_ENDS: [&str; 3] = ["\n", "\r\n", "\r"];

#[test]
fn two_hundred_edits_change_the_bytes_that_they_are_about_and_no_others() {
    let origin = DnsName::absolute("gullrock.example").unwrap();
    let (mut edits, mut odd, mut wrong) = (0, 0, Vec::new());
    let head = |serial: u32| format!("$TTL 60\n@ SOA ns1 host {serial} 4 3 2 1\n@ NS ns1\n");
    let record = |line: &str| {
        let zone = Document::parse(format!("{}{line}\n", head(7)), &origin).unwrap();
        zone.records().nth(2).unwrap().clone()
    };
    let list = |line: &str| if line.is_empty() { vec![] } else { vec![record(line)] };
    for (before, gone, new, after) in MORE_LAYOUTS {
        for end in LINE_ENDS {
            for whole in [true, false] {
                // Without an end behind the last line: an edit gives none to the last line either. Where that line
                // goes, the one before it has its end.
                let last_goes = new.is_empty() && before.starts_with(after);
                let cut = |text: &str, keeps: bool| match whole || keeps {
                    true => text.to_string(),
                    false => text.strip_suffix('\n').unwrap_or(text).to_string(),
                };
                if !whole && (before.ends_with("\n\n") || after.ends_with("\n\n")) {
                    continue;
                }
                // BIND ends a comment at a line feed alone.
                if end == "\r" && before.contains(';') {
                    continue;
                }
                let source = (head(7) + &cut(before, false)).replace('\n', end);
                let zone = Document::parse(source.clone(), &origin).unwrap();
                let edited = match zone.with_replaced(&list(gone), &list(new), TODAY) {
                    Ok(edited) => edited,
                    Err(error) => {
                        wrong.push(format!("{source:?} -{gone} +{new}: {error}"));
                        continue;
                    }
                };
                let text = String::from_utf8(edited.source().to_vec()).unwrap();
                let wanted = (head(edited.soa().serial) + &cut(after, last_goes)).replace('\n', end);
                edits += 1;
                odd += usize::from(end != "\n" || !whole);
                if text != wanted {
                    wrong.push(format!("{source:?} -{gone} +{new}\n  gives  {text:?}\n  wanted {wanted:?}"));
                }
            }
        }
    }
    assert!(wrong.is_empty(), "{} of {edits}:\n{}", wrong.len(), wrong.join("\n"));
    assert!(edits >= 200 && odd * 2 >= edits, "{edits}, {odd}");
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

#[test]
fn a_large_zone_is_edited_as_a_small_one() {
    let mut text = "$TTL 3600\n@ SOA ns1 host 7 4 3 2 1\n@ NS ns1\nns1 A 192.0.2.1\n".to_string();
    (0..WORTH_TWO).for_each(|at| text.push_str(&format!("boat{at} A 192.0.2.{}\n", at % 250)));
    let zone = Document::parse(text, &DnsName::absolute("gullrock.example").unwrap()).unwrap();
    let count = zone.records().count();
    let added = zone.with_records(&[address("quay.gullrock.example", "192.0.2.9")], TODAY).unwrap();
    assert_eq!(added.records().count(), count + 1);
    let (first, last) = (address("boat1.gullrock.example", "192.0.2.1"), zone.records().last().unwrap().clone());
    let left = zone.without_records(&[first.clone(), last.clone()], TODAY).unwrap();
    assert!(left.records().count() == count - 2 && !left.records().any(|record| *record == first || *record == last));
    // What an edit would do beside is still seen.
    let spoilt = vec![(zone.entries()[4].span(), "boat0 A 192.0.2.77\n".to_string())];
    let expected = zone.digest(&|_| true, &[]);
    assert!(matches!(zone.spliced_to(spoilt, expected, None, TODAY), Err(EditError::OthersChange)));
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

//! Reading master files: what lines inherit, what errors say, and that no byte is lost.

use super::*;
use crate::zone::ZoneProblem;
use proptest::prelude::*;

const CHOIR: &str = "; the choir's zone, kept by hand\n\
$TTL 1h\n\
@\tIN SOA ns1.saltmarsh.example. hostmaster.saltmarsh.example. (\n\
\t\t2026112301 ; serial\n\t\t4h 30m 4w 5m )\n\
\tIN NS ns1.saltmarsh.example.\n\
\t300 IN A 192.0.2.20\n\
www  IN 60 CNAME @\n\
$ORIGIN rehearsal.lanternchoir.example.\n\
hall A 192.0.2.21 ; no final newline";

fn origin() -> DnsName {
    DnsName::absolute("lanternchoir.example").unwrap()
}

#[test]
fn records_with_inherited_owner_ttl_and_origin() {
    let zone = Document::parse(CHOIR, &origin()).unwrap();
    let shown: Vec<String> = zone.records().map(Record::to_string).collect();
    assert_eq!(
        shown,
        [
            "lanternchoir.example. 3600 IN SOA ns1.saltmarsh.example. hostmaster.saltmarsh.example. 2026112301 14400 1800 2419200 300",
            "lanternchoir.example. 3600 IN NS ns1.saltmarsh.example.",
            "lanternchoir.example. 300 IN A 192.0.2.20",
            "www.lanternchoir.example. 60 IN CNAME lanternchoir.example.",
            "hall.rehearsal.lanternchoir.example. 3600 IN A 192.0.2.21",
        ]
    );
    assert_eq!(zone.source(), CHOIR.as_bytes());
    assert_eq!(zone.entries().last().unwrap().line, 10);
}

#[test]
fn errors_name_the_place_the_text_and_the_reason() {
    let told = |line: &str| {
        let text = format!("@ 60 SOA ns1.saltmarsh.example. host 1 2 3 4 5\n{line}\n");
        Document::parse(text, &origin()).unwrap_err().to_string()
    };
    assert_eq!(told("www A 192.0.2.999"), "line 2, column 7: `192.0.2.999` is not an IPv4 address (at `192.0.2.999`)");
    assert_eq!(told("www WAT 1"), "line 2, column 5: a record type was expected (at `WAT`)");
    assert_eq!(told("$WAT 1"), "line 2, column 1: an unknown directive (at `$WAT`)");
    assert_eq!(
        told("a..b A 192.0.2.1"),
        "line 2, column 1: an empty label: two dots in a row, or a dot at the start (at `a..b`)"
    );
    assert_eq!(told("www CH A 192.0.2.1"), "line 2, column 5: only class IN is kept here (at `CH`)");
    // Of a record of several lines, the one that is wrong.
    let place = |lines: &str| told(lines).split(": ").next().unwrap().to_string();
    assert_eq!(place("www DS 1 8 2 (\n 0011\n 2233 )"), "line 4, column 2", "too short a digest, at its end");
    assert_eq!(place("www SRV 1 (\n 1\n port\n ns1 )"), "line 4, column 2");
    assert_eq!(place("www SRV 1 (\n 1 )"), "line 3, column 2", "something is missing behind it");
    assert_eq!(place("www SRV 1 1 1 (\n ns1\n ns2 )"), "line 4, column 2", "one too many");
    assert_eq!(place("www TXT (\n a\n \\999 )"), "line 4, column 2");
    assert_eq!(place("www MX (\n 10\n a..b )"), "line 4, column 2");
    assert_eq!(place("$DATE 20261399000000"), "line 2, column 7");
    assert_eq!(told("@ SOA a b 1 2 3 4 5"), "line 2, column 1: a second SOA record (at `@`)");
    let no_soa = Document::parse("www 60 A 192.0.2.1\n", &origin()).unwrap_err();
    assert_eq!(no_soa.problem, ZoneProblem::NoSoa);
}

proptest! {
    #[test]
    fn any_bytes_are_answered_without_a_panic(bytes in proptest::collection::vec(any::<u8>(), 0..400)) {
        let _ = Document::parse(bytes, &origin());
    }

    #[test]
    fn whatever_parses_prints_back(tail in "[a-z ;\"()\\\\\t\n$@0-9.]{0,120}") {
        let text = format!("@ 60 SOA a b 1 2 3 4 5\n{tail}");
        if let Ok(zone) = Document::parse(text.clone(), &origin()) {
            prop_assert_eq!(zone.source(), text.as_bytes());
        }
    }
}

fn shown(text: &str) -> Vec<String> {
    Document::parse(text, &origin()).unwrap().records().skip(1).map(Record::to_string).collect()
}

const SOA: &str = "$TTL 60\n@ SOA ns1 host 1 2 3 4 5\n";

#[test]
fn every_type_is_read_and_written() {
    let cases = [
        ("PTR host", "PTR host.lanternchoir.example."),
        ("DNAME @", "DNAME lanternchoir.example."),
        ("HINFO PDP-11 \"UNIX V7\"", "HINFO \"PDP-11\" \"UNIX V7\""),
        ("RP host.mail .", "RP host.mail.lanternchoir.example. ."),
        ("SRV 1 2 443 www", "SRV 1 2 443 www.lanternchoir.example."),
        ("NAPTR 1 2 u E2U+sip \"!^.*$!sip:a@b!\" .", "NAPTR 1 2 \"u\" \"E2U+sip\" \"!^.*$!sip:a@b!\" ."),
        ("CAA 0 issue ca.example", "CAA 0 issue \"ca.example\""),
        (
            "DS 1 ECDSAP256SHA256 1 00112233 445566778899aabbccddeeff00112233",
            "DS 1 13 1 00112233445566778899AABBCCDDEEFF00112233",
        ),
        ("DNSKEY 257 3 13 c2Fs dA==", "DNSKEY 257 3 13 c2FsdA=="),
        ("TLSA 3 1 1 00ff", "TLSA 3 1 1 00FF"),
        ("SSHFP 4 3 00ff", "SSHFP 4 3 00FF"),
        ("OPENPGPKEY c2Fs dA==", "OPENPGPKEY c2FsdA=="),
        ("URI 1 2 \"https://a.example/\"", "URI 1 2 \"https://a.example/\""),
        (
            "LOC 52 22 23 N 4 53 32.5 E -2m 0m 10000m 10m",
            "LOC 52 22 23.000 N 4 53 32.500 E -2.00m 0.00m 10000.00m 10.00m",
        ),
        ("HTTPS 1 . alpn=h2,h3 port=8443", "HTTPS 1 . alpn=\"h2,h3\" port=8443"),
        (
            "SVCB 1 @ key667=hi mandatory=port port=53",
            "SVCB 1 lanternchoir.example. mandatory=port port=53 key667=\"hi\"",
        ),
        ("NSEC3PARAM 1 0 10 -", "NSEC3PARAM 1 0 10 -"),
        ("NSEC b AAAA A", "NSEC b.lanternchoir.example. A AAAA"),
        (
            "RRSIG A 13 3 60 20261123000000 20261101000000 7 @ c2FsdA==",
            "RRSIG A 13 3 60 20261123000000 20261101000000 7 lanternchoir.example. c2FsdA==",
        ),
        ("TYPE65280 \\# 3 c0ff ee", "TYPE65280 \\# 3 C0FFEE"),
        ("A \\# 4 c0000201", "A 192.0.2.1"),
        ("CAA \\# 8 00 05 6973737565 61", "CAA 0 issue \"a\""),
        ("TXT a\\;b \"c;d\" \"\"", "TXT \"a;b\" \"c;d\" \"\""),
    ];
    for (written, expected) in cases {
        let records = shown(&format!("{SOA}x {written}\n"));
        assert_eq!(records, [format!("x.lanternchoir.example. 60 IN {expected}")], "{written}");
        // What is written is read as the same again.
        assert_eq!(shown(&format!("{SOA}{}\n", records[0])), records, "{written}");
    }
}

#[test]
fn wrong_data_of_every_type_is_refused() {
    for wrong in [
        "SRV 1 2 443",
        "SRV 1 2 65536 www",
        "SRV 1 2 443 www extra",
        "CAA 0 is-sue a",
        "CAA 256 issue a",
        "DS 1 NOPE 2 ab",
        "DS 1 13 2 abc",
        "DS 1 13 1 abcd",
        "TLSA 3 1 1",
        "DNSKEY 257 3 13 c2F",
        "HINFO one",
        "LOC 91 N 4 E 0m",
        "LOC 52 N 4 0m",
        "HTTPS 1 . port=65536",
        "HTTPS 1 . port=1 port=2",
        "HTTPS 1 . mandatory=alpn",
        "HTTPS 1 . no-default-alpn",
        "NAPTR 1 2 u E2U . .  .",
        "TYPE65280 ab",
        "TYPE65280 \\# 3 c0ff",
        "A \\# 3 c0ffee",
        "ANY 1",
        "RRSIG A 13 3 60 2026 20261301000000 7 @ c2FsdA==",
    ] {
        assert!(Document::parse(format!("{SOA}x {wrong}\n"), &origin()).is_err(), "{wrong}");
    }
}

#[test]
fn generate_writes_records_out_in_its_place() {
    assert_eq!(
        shown(&format!("{SOA}$GENERATE 1-3/2 berth${{0,2,d}} 300 A 192.0.2.$\n@ NS ns1\n")),
        [
            "berth01.lanternchoir.example. 300 IN A 192.0.2.1",
            "berth03.lanternchoir.example. 300 IN A 192.0.2.3",
            "lanternchoir.example. 60 IN NS ns1.lanternchoir.example.",
        ]
    );
}

#[test]
fn an_included_file_has_its_own_origin_and_gives_nothing_back_but_its_records() {
    let files = |name: &str| match name {
        "hall.inc" => Ok(b"@ A 192.0.2.1\n$ORIGIN elsewhere.lanternchoir.example.\nx A 192.0.2.2\n".to_vec()),
        "loop.inc" => Ok(b"$INCLUDE loop.inc\n".to_vec()),
        "wrong.inc" => Ok(b"\n@ A nonsense\n".to_vec()),
        _ => Err("no such file".to_string()),
    };
    let read =
        |line: &str| Document::parse_with(format!("{SOA}a NS ns1\n{line}\n TXT after\n"), &origin(), &mut { files });
    let zone = read("$INCLUDE hall.inc hall").unwrap();
    let shown: Vec<String> = zone.records().skip(1).map(Record::to_string).collect();
    assert_eq!(
        shown,
        [
            "a.lanternchoir.example. 60 IN NS ns1.lanternchoir.example.",
            "hall.lanternchoir.example. 60 IN A 192.0.2.1",
            "x.elsewhere.lanternchoir.example. 60 IN A 192.0.2.2",
            "a.lanternchoir.example. 60 IN TXT \"after\"",
        ]
    );
    let told = |line: &str| read(line).unwrap_err().to_string();
    assert!(told("$INCLUDE loop.inc").starts_with("loop.inc, line 1, column 10: "), "{}", told("$INCLUDE loop.inc"));
    assert!(told("$INCLUDE wrong.inc").starts_with("wrong.inc, line 2, column 5: `nonsense`"));
    assert!(told("$INCLUDE none.inc").contains("line 4, column 10: the included file cannot be read: no such file"));
    let kept = Document::parse(format!("{SOA}$INCLUDE none.inc\n"), &origin()).unwrap();
    assert_eq!(kept.records().count(), 1, "without a way to fetch, the line is kept and not followed");
}

#[test]
fn records_outside_the_zone_are_passed_over_as_servers_do() {
    let zone = Document::parse(format!("{SOA}www.gullrock.example. A 192.0.2.1\n TXT too\n"), &origin()).unwrap();
    assert_eq!(zone.records().count(), 1);
    assert!(
        matches!(&zone.entries().last().unwrap().item, Item::OutOfZone(name) if name.bare() == "www.gullrock.example")
    );
}

#[test]
fn a_set_is_served_with_the_ttl_of_its_first_record() {
    let text = "$TTL 60\n@ SOA ns1 host 7 4h 30m 4w 5m\nwww A 192.0.2.1\nwww 70 TXT a\nwww 80 A 192.0.2.2\n";
    let served = Document::parse(text, &origin()).unwrap().served_records();
    let ttls: Vec<u32> = served.iter().map(|record| record.ttl).collect();
    assert_eq!(ttls, [60, 60, 70, 60]);
    let signature = |ttl: u32, covered: &str, key: u16| {
        format!("www {ttl} RRSIG {covered} 13 3 60 20300101000000 20200101000000 {key} @ AQID\n")
    };
    let signed = [signature(60, "A", 1), signature(70, "TXT", 1), signature(80, "A", 2)].concat();
    let zone = Document::parse(format!("{text}{signed}"), &origin()).unwrap();
    let ttls: Vec<u32> = zone.served_records().iter().map(|record| record.ttl).collect();
    assert_eq!(ttls, [60, 60, 70, 60, 60, 70, 60], "a signature has the TTL of what it covers");
}

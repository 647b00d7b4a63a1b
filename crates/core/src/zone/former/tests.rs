//! What is asked, what goes along, and where zones differ.

use super::super::{Document, Field};
use super::*;

fn name(text: &str) -> DnsName {
    DnsName::parse(text, &DnsName::absolute("gullrock.example").unwrap()).unwrap()
}

fn zone(lines: &str) -> Document {
    let head = "$TTL 3600\n@ SOA ns1.saltmarsh.example. host 2026112701 4h 30m 4w 5m\n@ NS ns1.saltmarsh.example.\n";
    Document::parse(format!("{head}{lines}"), &name("@")).unwrap()
}

fn former(lines: &str) -> FormerZone {
    let records = zone(lines).records().cloned().collect();
    FormerZone::whole(&name("@"), records, FormerSource::File("old.zone".into()), false)
}

/// The sets that go along and those that do not.
fn carried(new: &str, old: &str) -> (String, String) {
    let (zone, carried) = carry_over(&zone(new), &former(old)).unwrap();
    assert_eq!(zone.records().count(), self::zone(new).records().count() + carried.records);
    (carried.sets.join(", "), [carried.replaced, carried.left].concat().join(", "))
}

const OURS: &str = "@ A 192.0.2.10\nwww A 192.0.2.10\n";

#[test]
fn mail_texts_and_other_names_go_along_and_the_addresses_of_the_site_do_not() {
    let old = "@ A 198.51.100.7\n@ AAAA 2001:db8::7\nwww CNAME @\n@ MX 10 mail\nmail A 198.51.100.8\n\
               @ TXT \"v=spf1 mx -all\"\n_dmarc TXT \"v=DMARC1; p=none\"\n@ CAA 0 issue \"ca.example\"\nshop CNAME shop.example.\n";
    let (sets, left) = carried(OURS, old);
    assert_eq!(sets, "@ MX, @ TXT, @ CAA, _dmarc TXT, mail A, shop CNAME");
    assert_eq!(left, "@ A, @ AAAA, www CNAME");
}

#[test]
fn what_was_said_about_mail_stays_and_texts_stand_side_by_side() {
    let mail = format!("{OURS}@ MX 10 mx.saltmarsh.example.\n@ TXT \"v=spf1 a mx -all\"\n");
    let old = "@ MX 10 post.example.\n@ TXT \"v=spf1 include:post.example ~all\"\n@ TXT \"site-proof=1\"\n";
    assert_eq!(carried(&mail, old), ("@ TXT".into(), "@ MX".into()), "no second sender policy");
    let same = "@ MX 10 mx.saltmarsh.example.\n";
    assert_eq!(carried(&mail, same), (String::new(), String::new()), "what is there already is not left out");
}

#[test]
fn nothing_is_put_beside_an_alias_or_hidden_by_a_cut() {
    assert_eq!(carried("www CNAME other.example.\n", "www TXT x\n"), (String::new(), "www TXT".into()));
    assert_eq!(carried(OURS, "www NS ns.example.\n"), (String::new(), "www NS".into()));
    assert_eq!(
        carried(
            OURS,
            "lab NS ns.example.\nlab DS 1 13 2 22DB51631146AE7E78D8D03DDDAE373A11C4F30E211B3B5F19ED70C21230CDDA\n"
        ),
        ("lab NS, lab DS".into(), String::new())
    );
    assert_eq!(carried(OURS, "*.pier A 192.0.2.9\n").0, "*.pier A");
}

#[test]
fn the_servers_own_records_and_strange_names_are_not_of_the_zone() {
    let signed = "@ DNSKEY 257 3 13 AQID\n@ RRSIG A 13 2 60 20300101000000 20200101000000 5 @ AQID\nmail NSEC @ A\n\
                  @ CDS 1 13 2 22DB51631146AE7E78D8D03DDDAE373A11C4F30E211B3B5F19ED70C21230CDDA\nmail A 192.0.2.9\n";
    let kept = former(signed).records;
    assert_eq!(kept.iter().map(|record| record.record_type().to_string()).collect::<Vec<_>>(), ["NS", "A"]);
    let strange = Record { owner: DnsName::absolute("oldquay.example").unwrap(), ..kept[1].clone() };
    let source = FormerSource::File("x".into());
    assert!(FormerZone::whole(&name("@"), vec![strange], source, false).records.is_empty());
}

#[test]
fn the_new_zone_says_where_its_lines_are_from() {
    let (made, carried) = carry_over(&zone(OURS), &former("@ MX 10 mail\n")).unwrap();
    let text = String::from_utf8(made.source().to_vec()).unwrap();
    assert!(text.ends_with(
        "; Carried over from the former provider's zone file:\ngullrock.example. 3600 IN MX 10 mail.gullrock.example.\n"
    ));
    assert_eq!((carried.records, carried.signed), (1, false));
}

#[test]
fn a_wildcard_is_one_record_and_not_the_answer_of_every_name() {
    let all = |lines: &str| zone(lines).records().skip(2).cloned().collect::<Vec<_>>();
    let answers = all("www A 192.0.2.9\nmail A 192.0.2.9\nshop A 192.0.2.8\n@ A 192.0.2.9\n");
    let absent = all("no-such-name-8f3a51 A 192.0.2.9\n");
    let server = "198.51.100.53:53".parse().unwrap();
    let seen = FormerZone::asked(&name("@"), answers, &absent, server, true);
    let shown: Vec<String> =
        seen.records.iter().map(|one| set_words(&one.owner, one.record_type(), &seen.origin)).collect();
    assert_eq!(shown, ["@ A", "* A", "shop A"]);
    assert!(seen.signed && !seen.from.is_whole());
    // A name that has something of its own, itself or below it, keeps what the wildcard would give to others.
    let answers =
        all("mail A 192.0.2.9\nmail TXT \"own\"\nwww A 192.0.2.9\npost A 192.0.2.9\ns1._domainkey.post TXT \"key\"\n");
    let seen = FormerZone::asked(&name("@"), answers, &absent, server, false);
    let shown: Vec<String> =
        seen.records.iter().map(|one| set_words(&one.owner, one.record_type(), &seen.origin)).collect();
    assert_eq!(shown, ["* A", "mail A", "mail TXT", "post A", "s1._domainkey.post TXT"]);
}

#[test]
fn a_wildcard_of_either_side_answers_where_that_side_has_no_such_name() {
    let words = |here: &str, there: &str| {
        let all = differences(&zone(here), &former(there), &[]);
        all.into_iter().map(|one| (set_words(&one.owner, one.record_type, &name("@")), one.differs)).collect::<Vec<_>>()
    };
    let wild = "* A 192.0.2.9\n";
    assert_eq!(words(&format!("{wild}mail A 192.0.2.9\n"), wild), []);
    assert_eq!(words(wild, &format!("{wild}mail A 192.0.2.9\n")), []);
    let changed = words(&format!("{wild}mail A 192.0.2.1\n"), wild);
    assert_eq!(changed, [("mail A".to_string(), Differs::Otherwise)], "the world has an address for it");
    let text = words(&format!("{wild}mail TXT \"x\"\n"), wild);
    assert!(text.contains(&("mail TXT".to_string(), Differs::OnlyHere)), "{text:?}");
}

#[test]
fn the_usual_names_are_asked_for_and_those_that_answers_lead_to() {
    let all = questions(&name("@"));
    let asked = |owner: &str, kind: RecordType| all.contains(&(name(owner), kind));
    assert!(asked("@", RecordType::MX) && asked("_dmarc", RecordType::TXT) && asked("www", RecordType::AAAA));
    assert!(asked("_imaps._tcp", RecordType(33)) && asked("s1._domainkey", RecordType::TXT));
    let absent = absent_name(&name("@")).unwrap();
    assert!(all.iter().any(|(owner, _)| *owner == absent));
    assert!(all.len() < 200, "{} questions to one server", all.len());
    let seen = zone(
        "@ MX 10 post\n@ TXT \"v=spf1 include:_spf a:out/28 include:%{d}.x include:else.example ~all\"\n\
                     shop CNAME cart\n_sip._tcp SRV 1 1 5060 phone\n",
    );
    let led: std::collections::BTreeSet<String> =
        further_questions(&name("@"), &seen.records().cloned().collect::<Vec<_>>())
            .into_iter()
            .map(|(name, _)| name.bare())
            .collect();
    let expected = ["cart", "phone", "post"].map(|one| format!("{one}.gullrock.example"));
    assert_eq!(led.into_iter().collect::<Vec<_>>(), expected, "others are other zones' affair");
    let own = zone("@ TXT \"v=spf1 include:_spf.gullrock.example ~all\"\n");
    let led = further_questions(&name("@"), &own.records().cloned().collect::<Vec<_>>());
    assert!(led.contains(&(name("_spf"), RecordType::TXT)), "{led:?}");
}

#[test]
fn differences_are_told_set_by_set_the_losses_first() {
    let here = zone("@ A 192.0.2.10\nnew A 192.0.2.1\n@ TXT \"a\"\nsame 60 MX 1 x\n");
    let there = former("@ A 198.51.100.7\n@ MX 10 mail\n@ TXT \"a\"\nsame 900 MX 1 x\n@ NS old.example.\n");
    let found: Vec<(String, Differs)> = differences(&here, &there, &[])
        .into_iter()
        .map(|one| (set_words(&one.owner, one.record_type, &name("@")), one.differs))
        .collect();
    let expected = [
        ("@ MX".to_string(), Differs::MissingHere),
        ("@ A".to_string(), Differs::Otherwise),
        ("new A".to_string(), Differs::OnlyHere),
    ];
    assert_eq!(found, expected);
    let served = differences(&here, &there, &[crate::name::Hostname::parse("gullrock.example").unwrap()]);
    assert_eq!(served.last().map(|one| one.differs), Some(Differs::ServedHere));
    let new = differences(&here, &there, &[crate::name::Hostname::parse("new.gullrock.example").unwrap()]);
    assert!(new.iter().any(|one| one.owner == name("new") && one.differs == Differs::OnlyHere), "nothing is there yet");
    assert_eq!(served.iter().filter(|one| one.differs.is_loss()).count(), 1);
    let one = &differences(&here, &there, &[])[1];
    assert_eq!((&one.here[..], &one.there[..]), (&["192.0.2.10".to_string()][..], &["198.51.100.7".to_string()][..]));
}

#[test]
fn a_field_with_a_name_is_what_services_lead_to() {
    let record = zone("_sip._tcp SRV 1 1 5060 phone\n").records().nth(2).unwrap().clone();
    let RecordData::Fields { fields, .. } = &record.data else { panic!("{record}") };
    assert!(fields.iter().any(|field| matches!(field, Field::Name(target) if *target == name("phone"))));
}

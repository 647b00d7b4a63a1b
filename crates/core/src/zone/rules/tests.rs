//! For every rule a zone that makes it fire and no other rule; and the folder is read for rules left out.

use super::*;
use crate::finding::check_folder;

const GOOD: &str = "$TTL 3600\n@ SOA ns1 hostmaster 7 4h 30m 4w 5m\n@ NS ns1\nns1 A 192.0.2.1\n@ A 192.0.2.2\nwww CNAME @\n\
                    @ MX 10 mail\nmail A 192.0.2.3\n@ TXT \"v=spf1 mx -all\"\n_dmarc TXT \"v=DMARC1; p=none\"\n\
                    dock NS ns.dock\nns.dock A 192.0.2.4\n*.berth A 192.0.2.5\n_sip._tcp SRV 1 1 5060 ns1\n@ HTTPS 1 . alpn=h2\n\
                    gc._msdcs A 192.0.2.7\ngc._msdcs AAAA 2001:db8::7\nmail._spf A 192.0.2.7\n\
                    0123456789abcdefghijklmnopqrstuv NSEC3 1 0 0 - 0123456789ABCDEFGHIJKLMNOPQRSTUV A\n\
                    dock DS 60485 5 1 2BB183AF5F22588179A53B0A98631FAD1A292118\n\
                    @ CAA 0 issue \"CA.example; account=7\"\n@ CAA 0 issuewild \"other.example\"\n@ CAA 0 issue \"other.example\"\nx TXT \"100% rye, v=1\"\nx TXT \"aGVsbG8 =\" \"a=b=\"\ntoken TXT aGVsbG8gaGFyYm91cg=\nold._domainkey TXT \"p=\"\nsub TXT \"v=spf1 ip4:192.0.2.0/24 ip6:2001:db8::/32 include:a.example ~all redirect=b.example\"\n";

fn codes(text: &str) -> Vec<&'static str> {
    codes_with_mail(text, None)
}

fn codes_with_mail(text: &str, mail_server: Option<&str>) -> Vec<&'static str> {
    let zone = Document::parse(text, &DnsName::absolute("gullrock.example").unwrap()).unwrap();
    let around = Surroundings {
        mail_servers: mail_server.map(|name| vec![DnsName::absolute(name).unwrap()]),
        ca_identities: vec!["ca.example".into(), "second.ca.example".into()],
        former_addresses: vec!["192.0.2.200".parse().unwrap()],
    };
    judge_within(&zone, &around).iter().map(|finding| finding.code).collect()
}

/// Some 400 records of 180 bytes.
const SET_TOO_LARGE: &str = "$GENERATE 1000-1400 big TXT xxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxx$\n";

/// Each code with what makes it fire: a line more, or one replaced.
const TRIGGERS: &[(&str, &str, &str)] = &[
    ("no-nameserver", "@ NS ns1\n", ""),
    ("alias-beside-data", "", "www TXT x\n"),
    ("alias-beside-data", "", "www CNAME ns1\n"),
    ("second-dname", "", "old DNAME a.example.\nold DNAME b.example.\n"),
    ("owner-not-a-hostname", "", "under_score A 192.0.2.9\n"),
    ("owner-not-a-hash", "", "hash NSEC3 1 0 0 - 0123456789ABCDEFGHIJKLMNOPQRSTUV A\n"),
    ("child-keys-disagree", "", "@ CDS 1 8 2 00112233445566778899AABBCCDDEEFF00112233445566778899AABBCCDDEEFF\n"),
    ("child-keys-disagree", "", "@ DNSKEY 257 3 13 AQID\n@ CDNSKEY 257 3 8 AQID\n"),
    ("child-keys-disagree", "", "@ DNSKEY 257 3 13 AQID\n@ CDNSKEY 257 3 13 AQID\n@ CDNSKEY 0 3 0 AA==\n"),
    ("set-too-large", "", SET_TOO_LARGE),
    ("target-not-a-hostname", "@ HTTPS 1 . alpn=h2\n", "@ HTTPS 1 pa_ges.crumbandtide.example. alpn=h2\n"),
    ("ds-at-apex", "", "@ DS 60485 5 1 2BB183AF5F22588179A53B0A98631FAD1A292118\n"),
    ("target-not-a-hostname", "", "@ MX 20 ma_il.crumbandtide.example.\n"),
    ("apex-nameserver-without-address", "", "@ NS ns2\n"),
    ("nameserver-is-alias", "", "@ NS ns3\nns3 CNAME ns1\n"),
    ("wildcard-delegation", "", "*.quay NS ns1\n"),
    ("glue-missing-in-zone", "ns.dock A 192.0.2.4\n", ""),
    ("hidden-by-delegation", "", "crane.dock TXT x\n"),
    ("repeated-zone-name", "", "ftp.gullrock.example A 192.0.2.6\n"),
    ("mail-server-unusable", "mail A 192.0.2.3\n", ""),
    ("mail-server-unusable", "mail A 192.0.2.3\n", "mail CNAME ns1\n"),
    ("mail-server-unusable", "@ MX 10 mail\n", "@ MX 10 mail\n@ MX 10 192.0.2.3.\n"),
    ("mail-not-as-set", "@ MX 10 mail\n", "@ MX 0 .\n"),
    ("mail-not-as-set", "", "@ MX 20 ns1\n"),
    ("ca-forbidden", "CA.example; account=7", "third.example"),
    ("ca-forbidden", "", "shop A 192.0.2.5\nshop CAA 0 issue \";\"\n"),
    ("former-address", "", "old A 192.0.2.200\n"),
    ("ttls-count-down", "@ MX 10 mail\n", "$DATE 20260101000000\n@ MX 10 mail\n"),
    ("ttls-differ", "", "@ 60 A 192.0.2.8\n"),
    ("several-spf", "", "@ TXT \"v=spf1 -all\"\n"),
    ("soa-times", "4h 30m 4w 5m", "4h 30m 1d 5m"),
    ("soa-times", "4h 30m 4w 5m", "4h 4h 4w 5m"),
    ("soa-times", "4h 30m 4w 5m", "4h 30m 4w 2d"),
    ("private-address", "", "inner A 10.1.2.3\n"),
    ("private-address", "", "inner AAAA fd00::1\n"),
    ("service-target-without-address", "", "_imap._tcp SRV 1 1 143 imap\n"),
    ("service-target-without-address", "", "_imap._tcp SRV 1 1 143 www\n"),
    ("service-target-without-address", "", "@ HTTPS 1 pages alpn=h2\n"),
    ("out-of-zone", "", "www.crumbandtide.example. A 192.0.2.6\n"),
    ("nameserver-is-address", "ns.dock A 192.0.2.4\n", "ns.dock A 192.0.2.4\ncrane NS 192.0.2.1.\n"),
    ("cut-without-address", "", "crane NS ns9\n"),
    ("alias-to-nothing", "", "old CNAME gone\n"),
    ("alias-circle", "", "self CNAME self\n"),
    ("dot-forgotten", "", "ftp MX 10 mail.crumbandtide.example\n"),
    ("dot-forgotten", "", "ftp CNAME www.crumbandtide.example\n"),
    ("dot-forgotten", "", "ftp PTR www.crumbandtide.com\n"),
    ("dot-forgotten", "", "_imap._tcp SRV 1 1 143 imap.crumbandtide.example\n"),
    ("dot-forgotten", "", "crane NS ns1.crumbandtide.example\n"),
    ("soa-mailbox", "hostmaster 7", "hostmaster@gullrock.example. 7"),
    ("soa-mailbox", "hostmaster 7", "hostmaster.gullrock.example 7"),
    ("soa-mailbox", "hostmaster 7", "hostmaster. 7"),
    ("null-mx-beside-others", "", "quay MX 0 .\nquay MX 10 mail\n"),
    ("spf-allows-everybody", "v=spf1 mx -all", "v=spf1 mx +all"),
    ("spf-allows-everybody", "v=spf1 mx -all", "v=spf1 mx ALL"),
    ("dmarc-syntax", "v=DMARC1; p=none", "v=DMARC1; p=none; rua=post@gullrock.example"),
    ("dmarc-syntax", "v=DMARC1; p=none", "v=DMARC1; p=none; ruf=mailto:post"),
    ("spf-syntax", "v=spf1 mx -all", "v=spf1 mx -al"),
    ("spf-syntax", "v=spf1 mx -all", "v=spf1 ip4:192.0.2.300 -all"),
    ("spf-syntax", "v=spf1 mx -all", "v=spf1 a a a a a a a a a mx mx -all"),
    ("dmarc-syntax", "v=DMARC1; p=none", "p=none"),
    ("dmarc-syntax", "v=DMARC1; p=none", "v=DMARC1; p=maybe"),
    ("dmarc-syntax", "v=DMARC1; p=none", "v=DMARC1"),
    ("leftover-placeholder", "", "x TXT \"site of {{domain}}\"\n"),
    ("leftover-placeholder", "", "x TXT \"site of %domain%\"\n"),
    ("text-without-value", "", "x TXT \"\"\n"),
    ("text-without-value", "", "x TXT \"site-verification=\"\n"),
    ("text-without-value", "", "x TXT \"site-\" \"verification= \"\n"),
    ("ttl-extreme", "", "y 5 TXT short\n"),
    ("ttl-extreme", "", "y 2w TXT long\n"),
    ("www-without-apex", "www CNAME @\n", ""),
    ("www-without-apex", "@ A 192.0.2.2\n", ""),
];

#[test]
fn a_good_zone_has_no_findings() {
    assert_eq!(codes(GOOD), Vec::<&str>::new());
    assert_eq!(codes_with_mail(GOOD, Some("mail.gullrock.example")), Vec::<&str>::new());
}

#[test]
fn each_rule_fires_on_its_own_fault_alone() {
    for (code, old, new) in TRIGGERS {
        let text = if old.is_empty() { format!("{GOOD}{new}") } else { GOOD.replacen(old, new, 1) };
        let mail_server = (*code == "mail-not-as-set").then_some("mail.gullrock.example");
        assert_eq!(codes_with_mail(&text, mail_server), [*code], "{old:?} -> {new:?}");
    }
}

#[test]
fn a_wildcard_gives_a_mail_server_its_address() {
    let text = GOOD.replace("@ MX 10 mail\n", "@ MX 10 post.berth\n");
    assert_eq!(codes(&text), Vec::<&str>::new());
}

#[test]
fn what_fits_the_keys_or_takes_them_away_alone_is_good() {
    for good in ["@ CDS 0 0 0 00\n@ CDNSKEY 0 3 0 AA==\n", "@ DNSKEY 257 3 13 AQID\n@ CDNSKEY 257 3 13 AQID\n"] {
        assert_eq!(codes(&format!("{GOOD}{good}")), Vec::<&str>::new(), "{good}");
    }
    assert_eq!(codes(&format!("{GOOD}@ HTTPS 0 _pages.crumbandtide.example.\n")), Vec::<&str>::new());
}

#[test]
fn a_set_is_as_large_as_a_message_at_most() {
    let texts = |count: usize| (0..count).map(|n| format!("big TXT \"{n:0240}\"\n")).collect::<String>();
    // 2 bytes, and for each 2 and 241.
    assert_eq!(codes(&format!("{GOOD}{}", texts(269))), Vec::<&str>::new());
    assert_eq!(codes(&format!("{GOOD}{}", texts(270))), ["set-too-large"]);
    let one =
        |last: usize| format!("big TXT {}\"{}\"\n", format!("\"{}\" ", "x".repeat(255)).repeat(255), "x".repeat(last));
    assert_eq!(codes(&format!("{GOOD}{}", one(229))), Vec::<&str>::new());
    assert_eq!(codes(&format!("{GOOD}{}", one(230))), ["set-too-large"]);
    let two_sets = texts(200) + &texts(200).replace("big TXT", "big HINFO x");
    assert_eq!(codes(&format!("{GOOD}{two_sets}")), Vec::<&str>::new());
}

#[test]
fn a_wildcard_answers_for_names_that_are_not_there_alone() {
    let named = |target: &str, more: &str| codes(&format!("{GOOD}@ NS {target}\n{more}"));
    assert_eq!(named("ns.berth", ""), Vec::<&str>::new(), "nameservers are found by a wildcard, too");
    assert_eq!(named("ns.east.berth", ""), Vec::<&str>::new());
    let without = ["apex-nameserver-without-address"];
    assert_eq!(named("ns.east.berth", "east.berth TXT x\n"), without);
    assert_eq!(named("ns.east.berth", "x.east.berth TXT x\n"), without, "a name between others is there");
    assert_eq!(named("east.berth", "x.east.berth TXT x\n"), without);
    assert_eq!(named("east.berth", "east.berth TXT x\n"), without);
    assert_eq!(named("ns.old", "*.old CNAME ns1\n"), ["nameserver-is-alias"]);
    let below = codes(&format!("{GOOD}quay NS ns.quay\n*.quay A 192.0.2.1\n"));
    assert_eq!(below, ["glue-missing-in-zone", "hidden-by-delegation"], "it gives no glue");
}

#[test]
fn every_file_of_the_folder_is_a_registered_rule_with_texts_and_a_trigger() {
    let texts: Vec<_> = ALL.iter().map(|rule| rule.text).collect();
    check_folder("zone/rules", &texts, &TRIGGERS.iter().map(|(code, ..)| *code).collect::<Vec<_>>());
}

#[test]
fn the_root_zone_is_a_zone_as_any_other() {
    let text = "$TTL 60\n@ SOA a.root.example. host.example. 7 4h 30m 4w 5m\n@ NS a.root.example.\na.root.example. A 192.0.2.1\n\
                example. NS a.nic.example.\na.nic.example. A 192.0.2.2\n";
    let zone = Document::parse(text, &DnsName::root()).unwrap();
    assert_eq!(judge(&zone), []);
}

#[test]
fn two_at_a_time_the_rules_find_the_same_in_the_same_order() {
    let text = GOOD.to_string()
        + "bad_host 0 A 10.0.0.1\nwww TXT x\nother.example. A 192.0.2.9\nshop 0 A 192.0.2.9\nshop 9 A 192.0.2.8\n";
    let zone = Document::parse(text, &DnsName::absolute("gullrock.example").unwrap()).unwrap();
    let around = Surroundings::default();
    let indexed = Indexed::new(&zone, &around);
    let one_by_one: Vec<Finding> = ALL.iter().flat_map(|rule| (rule.check)(&indexed)).collect();
    let codes: std::collections::BTreeSet<_> = one_by_one.iter().map(|finding| finding.code).collect();
    assert!(codes.len() > 4, "{codes:?}");
    let all: Vec<&Rule> = ALL.iter().collect();
    for _ in 0..20 {
        assert_eq!(side_by_side(&all, &indexed), one_by_one);
    }
}

#[test]
fn another_form_of_the_zone_is_judged_by_the_rules_that_have_spoken_alone() {
    let origin = DnsName::absolute("gullrock.example").unwrap();
    let before = GOOD.to_string() + "bad_host 0 A 10.0.0.1\nwww TXT x\n";
    let before = Document::parse(before, &origin).unwrap();
    let around = Surroundings::default();
    let all = judge_within(&before, &around);
    let now: Vec<Finding> = all.iter().filter(|finding| finding.code == "private-address").cloned().collect();
    assert!(now.len() == 1 && all.len() > 2, "{all:?}");
    assert_eq!(judge_alike(&now, &before, &around), now);
    assert_eq!(judge_alike(&[], &before, &around), []);
}

#[test]
fn a_finding_says_on_which_line_it_stands() {
    let text = GOOD.replace("\nmail A 192.0.2.3", "\n\n; the mail\nmail A 192.0.2.3")
        + "bad_host A 192.0.2.9\nwww TXT x\nother.example. A 192.0.2.9\n";
    let zone = Document::parse(text.clone(), &DnsName::absolute("gullrock.example").unwrap()).unwrap();
    let line_of = |code: &str| {
        let finding = judge(&zone).into_iter().find(|finding| finding.code == code).unwrap();
        finding.place.map(|place| (place.line, place.column))
    };
    let line = |start: &str| 1 + text.lines().position(|line| line.starts_with(start)).unwrap();
    assert_eq!(line_of("owner-not-a-hostname"), Some((line("bad_host"), 1)));
    // Servers stumble over the later of the two.
    assert_eq!(line_of("alias-beside-data"), Some((line("www TXT"), 1)));
    assert_eq!(line_of("out-of-zone"), Some((line("other.example."), 1)));
    let generated =
        "$TTL 60\n@ SOA ns1 host 7 4h 30m 4w 5m\n@ NS ns1\nns1 A 192.0.2.1\n$GENERATE 1-2 a_$ A 192.0.2.$\n";
    let zone = Document::parse(generated, &DnsName::absolute("gullrock.example").unwrap()).unwrap();
    assert!(judge(&zone).iter().all(|finding| finding.code != "owner-not-a-hostname" || finding.place.is_none()));
}

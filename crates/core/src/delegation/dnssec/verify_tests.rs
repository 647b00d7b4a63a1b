//! The examples of RFC 6605 and RFC 8080, whole and spoilt.

use super::*;
use crate::zone::RecordData;
use base64::Engine;

fn name(text: &str) -> DnsName {
    DnsName::absolute(text).unwrap()
}

fn base64(text: &str) -> Vec<u8> {
    base64::engine::general_purpose::STANDARD.decode(text).unwrap()
}

fn record(owner: &str, record_type: RecordType, wire: &[u8]) -> Record {
    Record { owner: name(owner), ttl: 3600, data: RecordData::from_wire(record_type, wire).unwrap() }
}

fn at(text: &str) -> Timestamp {
    text.parse().unwrap()
}

struct Signing {
    key: Key,
    set: Record,
    signature: Record,
    zone: DnsName,
    now: Timestamp,
}

/// An RRSIG record: type, algorithm, labels, TTL of an hour, the two times, tag, signer, signature.
fn rrsig(owner: &str, head: (u16, u8, u8), times: (&str, &str), tag: u16, signer: &str, signature: &str) -> Record {
    let (covered, algorithm, labels) = head;
    let seconds = |text: &str| (at(text).as_second() as u32).to_be_bytes();
    let mut wire = covered.to_be_bytes().to_vec();
    wire.extend([algorithm, labels, 0, 0, 14, 16]);
    wire.extend(seconds(times.1));
    wire.extend(seconds(times.0));
    wire.extend(tag.to_be_bytes());
    wire.extend(name(signer).wire());
    wire.extend(base64(signature));
    record(owner, RecordType::RRSIG, &wire)
}

fn key(zone: &str, algorithm: u8, key: &str) -> Key {
    Key::of(&record(zone, RecordType::DNSKEY, &[&[1, 1, 3, algorithm][..], &base64(key)].concat())).unwrap()
}

/// RFC 6605 section 6.1.
fn p256() -> Signing {
    let public = "GojIhhXUN/u4v54ZQqGSnyhWJwaubCvTmeexv7bR6edbkrSqQpF64cYbcB7wNcP+e+MAnLr+Wi9xMWyQLc8NAA==";
    let signature = "qx6wLYqmh+l9oCKTN6qIc+bw6ya+KJ8oMz0YP107epXAyGmt+3SNruPFKG7tZoLBLlUzGGus7ZwmwWep666VCw==";
    let times = ("2010-08-12T10:04:39Z", "2010-09-09T10:04:39Z");
    Signing {
        key: key("example.net", 13, public),
        set: record("www.example.net", RecordType::A, &[192, 0, 2, 1]),
        signature: rrsig("www.example.net", (1, 13, 3), times, 55648, "example.net", signature),
        zone: name("example.net"),
        now: at("2010-08-20T00:00:00Z"),
    }
}

/// RFC 8080 section 6.1.
fn ed25519() -> Signing {
    let public = "l02Woi0iS8Aa25FQkUd9RMzZHJpBoRQwAQEX1SxZJA4=";
    let signature = "oL9krJun7xfBOIWcGHi7mag5/hdZrKWw15jPGrHpjQeRAvTdszaPD+QLs3fx8A4M3e23mRZ9VrbpMngwcrqNAg==";
    let times = ("2015-07-29T22:00:00Z", "2015-08-19T22:00:00Z");
    let exchange = name("mail.example.com");
    Signing {
        key: key("example.com", 15, public),
        set: record("example.com", RecordType::MX, &[&[0, 10][..], exchange.wire()].concat()),
        signature: rrsig("example.com", (15, 15, 2), times, 3613, "example.com", signature),
        zone: name("example.com"),
        now: at("2015-08-01T00:00:00Z"),
    }
}

impl Signing {
    fn checked(&self, keys: &[Key]) -> Checked {
        check(&[&self.set], std::slice::from_ref(&self.signature), keys, &self.zone, self.now)
    }

    fn is(&self) -> Checked {
        self.checked(std::slice::from_ref(&self.key))
    }
}

#[test]
fn the_examples_of_the_standards_hold() {
    assert_eq!(p256().is(), Checked::Holds);
    assert_eq!(ed25519().is(), Checked::Holds);
}

#[test]
fn what_is_spoilt_is_told_apart() {
    let signing = p256();
    let key_tag = 55648;
    let altered = Signing { set: record("www.example.net", RecordType::A, &[192, 0, 2, 2]), ..p256() };
    assert_eq!(altered.is(), Checked::Bad(Flaw::Altered { key_tag }));
    assert_eq!(signing.checked(&[ed25519().key]), Checked::Bad(Flaw::Stranger { key_tag }));
    let late = Signing { now: at("2010-09-09T10:04:40Z"), ..p256() };
    assert_eq!(late.is(), Checked::Bad(Flaw::Expired { on: at("2010-09-09T10:04:39Z") }));
    let early = Signing { now: at("2010-08-12T10:04:38Z"), ..p256() };
    assert_eq!(early.is(), Checked::Bad(Flaw::NotYet { from: at("2010-08-12T10:04:39Z") }));
    let moment = Signing { now: at("2010-09-09T10:04:39Z"), ..p256() };
    assert_eq!(moment.is(), Checked::Holds, "the last second counts");
    let elsewhere = Signing { zone: name("net"), ..p256() };
    assert_eq!(elsewhere.is(), Checked::Bad(Flaw::Missing), "only the zone itself may sign");
    assert_eq!(check(&[&signing.set], &[], &[signing.key], &signing.zone, signing.now), Checked::Bad(Flaw::Missing));
}

#[test]
fn a_key_that_is_revoked_or_none_of_a_zone_signs_nothing() {
    let with_flags = |flags: u16| {
        let mut wire = flags.to_be_bytes().to_vec();
        wire.extend(&p256().key.wire[2..]);
        let key = Key::of(&record("example.net", RecordType::DNSKEY, &wire)).unwrap();
        // Its tag is another one as well: what counts here is the flag.
        Key { key_tag: 55648, ..key }
    };
    let is = |flags: u16| p256().checked(&[with_flags(flags)]);
    assert_eq!((is(257), is(256)), (Checked::Holds, Checked::Holds));
    assert_eq!(is(385), Checked::Bad(Flaw::Stranger { key_tag: 55648 }), "revoked");
    assert_eq!(is(1), Checked::Bad(Flaw::Stranger { key_tag: 55648 }), "no zone key");
}

#[test]
fn an_algorithm_that_is_not_known_is_as_good_as_none() {
    let mut wire = p256().signature.data.to_wire();
    wire[2] = 16;
    let signing = Signing { signature: record("www.example.net", RecordType::RRSIG, &wire), ..p256() };
    assert_eq!(signing.is(), Checked::Unknown);
}

#[test]
fn fewer_labels_than_the_owner_has_mean_a_wildcard() {
    let mut wire = p256().signature.data.to_wire();
    let encloser = |labels: u8, wire: &mut Vec<u8>| {
        wire[3] = labels;
        let signed = Signed::of(&record("www.example.net", RecordType::RRSIG, wire), p256().now).unwrap();
        (signed.closest_encloser(&name("www.example.net")), signed.message(&[&p256().set]).is_some())
    };
    assert_eq!(encloser(3, &mut wire), (None, true));
    assert_eq!(encloser(2, &mut wire), (Some(name("example.net")), true));
    assert_eq!(encloser(4, &mut wire), (None, false), "more than there are");
    let signed = Signed::of(
        &record("*.example.net", RecordType::RRSIG, &{
            wire[3] = 2;
            wire
        }),
        p256().now,
    )
    .unwrap();
    assert_eq!(signed.closest_encloser(&name("*.example.net")), None, "the wildcard itself");
}

#[test]
fn words_of_flaws_end_a_sentence() {
    let words = Flaw::Expired { on: at("2026-11-27T10:00:00Z") }.to_string();
    assert_eq!(words, "has a signature that has expired on 2026-11-27 10:00 UTC");
    assert_eq!(Flaw::Altered { key_tag: 7 }.to_string(), "is not what the key 7 has signed");
}

#[test]
fn spoilt_wire_never_panics() {
    let wire = p256().signature.data.to_wire();
    for length in 0..wire.len() {
        let data = RecordData::Unknown { record_type: RecordType::RRSIG, data: wire[..length].into() };
        let signature = Record { data, ..p256().signature };
        let signing = Signing { signature, ..p256() };
        assert_ne!(signing.is(), Checked::Holds, "{length} bytes");
        signer_of(&signing.signature);
    }
    for bytes in [&[][..], &[0], &[0, 1], &[200, 1, 2]] {
        assert!(rsa(bytes).is_none(), "{bytes:?}");
    }
}

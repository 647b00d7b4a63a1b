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

/// The walk for `example.com` of RFC 8080 section 6.1, whose MX set alone is signed. `ds` is what the parent has.
fn walked(validates: bool, ds: impl Fn(&Key) -> Ds) -> (Probed, usize) {
    use crate::delegation::{Brief, Observation, Observations, Step, next_questions};
    use base64::Engine;
    let decode = |text: &str| base64::engine::general_purpose::STANDARD.decode(text).unwrap();
    let [registry, server] = ["192.0.2.2:53", "192.0.2.3:53"].map(|text| text.parse::<SocketAddr>().unwrap());
    let public = [&[1, 1, 3, 15][..], &decode("l02Woi0iS8Aa25FQkUd9RMzZHJpBoRQwAQEX1SxZJA4=")].concat();
    let dnskey = record("example.com", RecordType::DNSKEY, &public);
    let key = Key::of(&dnskey).unwrap();
    let ds = ds(&key);
    let ds = [&ds.key_tag.to_be_bytes()[..], &[ds.algorithm, ds.digest_type], &ds.digest].concat();
    let mx = record("example.com", RecordType::MX, &[&[0, 10][..], name("mail.example.com").wire()].concat());
    let signature = "oL9krJun7xfBOIWcGHi7mag5/hdZrKWw15jPGrHpjQeRAvTdszaPD+QLs3fx8A4M3e23mRZ9VrbpMngwcrqNAg==";
    let [expiration, inception] = [1_440_021_600_u32, 1_438_207_200].map(u32::to_be_bytes);
    let head = [&[0, 15, 15, 2, 0, 0, 14, 16][..], &expiration, &inception, &key.key_tag.to_be_bytes()].concat();
    let rrsig = [&head[..], name("example.com").wire(), &decode(signature)].concat();
    let rrsig = record("example.com", RecordType::RRSIG, &rrsig);
    let soa = [name("ns.example.com").wire(), name("host.example.com").wire(), &[0; 20]].concat();
    let nameserver = record("example.com", RecordType::NS, name("ns.example.net").wire());
    let address = record("ns.example.net", RecordType::A, &[192, 0, 2, 3]);
    let answer = |at: SocketAddr, question: &Question| {
        let mut reply = Reply { authoritative: true, edns: true, ..Reply::default() };
        match (at == registry, question.record_type, question.name.bare().as_str()) {
            (_, RecordType::A, "ns.example.net") => reply.answer.push(address.clone()),
            (true, RecordType::NS, "example.com") => {
                reply.authoritative = false;
                reply.authority.push(nameserver.clone());
            }
            (true, RecordType::DS, _) => reply.answer.push(record("example.com", RecordType::DS, &ds)),
            (false, RecordType::SOA, _) => reply.answer.push(record("example.com", RecordType::SOA, &soa)),
            (false, RecordType::NS, _) => reply.answer.push(nameserver.clone()),
            (false, RecordType::DNSKEY, _) => reply.answer.push(dnskey.clone()),
            (false, RecordType::MX, _) => reply.answer.extend([mx.clone(), rrsig.clone()]),
            _ => {}
        }
        reply
    };
    let brief = Brief {
        domain: name("example.com"),
        roots: vec!["192.0.2.1:53".parse().unwrap()],
        dns_port: 53,
        hostnames: vec![],
        most_questions: 200,
        thorough: false,
        validates,
        anchors: vec![],
        cuts: std::sync::Arc::new([(name("com"), vec![registry]), (name("net"), vec![registry])].into()),
    };
    let mut seen = Observations::default();
    loop {
        let questions = match next_questions(&brief, &seen) {
            Step::Whole(picture) => {
                let mut servers = picture.nameservers.into_iter().flat_map(|nameserver| nameserver.servers);
                let found = servers.find(|seen| seen.address == server).expect("the nameserver is found");
                return (found.probed, picture.ds.len());
            }
            Step::Ask(questions) => questions,
        };
        for question in questions {
            let reply = answer(question.server, &question);
            let at = "2015-08-01T00:00:00Z".parse().unwrap();
            seen.add(Observation { question, outcome: Outcome::Reply(reply), at, elapsed_ms: 1 });
        }
    }
}

#[test]
fn each_server_of_a_domain_with_ds_records_is_verified() {
    let (probed, count) = walked(true, |key| key.ds(&name("example.com")));
    assert_eq!((count, probed.keys.len(), probed.signatures.len()), (1, 1, 0));
    let told = |kind: RecordType| probed.flaws.iter().find(|one| one.record_type == kind).map(|one| one.flaw.clone());
    assert_eq!(told(RecordType::MX), None, "it is signed");
    assert_eq!(told(RecordType::DNSKEY), Some(Flaw::Missing));
    assert_eq!(told(RecordType::SOA), Some(Flaw::Missing));
    assert_eq!(told(RecordType::A), Some(Flaw::Unproven));
    // That the parent wants another key is told by itself, and says all.
    let (other, _) = walked(true, |key| Ds { key_tag: 1, ..key.ds(&name("example.com")) });
    assert!(other.flaws.is_empty() && other.keys.len() == 1);
    // Nobody asked for it, or it is of no use to resolvers.
    assert_eq!(walked(false, |key| key.ds(&name("example.com"))).1, 0);
    let (unusable, count) = walked(true, |key| Ds { digest_type: 9, ..key.ds(&name("example.com")) });
    assert!(count == 1 && unusable.keys.is_empty(), "nothing of it is asked for");
}

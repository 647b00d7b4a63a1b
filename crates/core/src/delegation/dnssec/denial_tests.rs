//! Proofs as such: the records are taken as verified here.

use super::*;

fn name(text: &str) -> DnsName {
    DnsName::absolute(text).unwrap()
}

const A: RecordType = RecordType::A;
const NS: RecordType = RecordType::NS;
const CNAME: RecordType = RecordType::CNAME;
const SOA: RecordType = RecordType::SOA;

fn nsec(owner: &str, next: &str, types: &[RecordType]) -> Nsec {
    Nsec { owner: name(owner), next: name(next), types: types.to_vec() }
}

fn proves(nsec: Vec<Nsec>, asked: &str, record_type: RecordType, no_such_name: bool) -> Option<Denied> {
    let zone = name("gullrock.example");
    let denials = Denials { zone: &zone, nsec, nsec3: vec![], flaw: None, unknown: false };
    denials.absence(&name(asked), record_type, no_such_name).ok()
}

/// The names of a zone with a wildcard below `pier`, a cut and an alias.
fn chain() -> Vec<Nsec> {
    vec![
        nsec("gullrock.example", "dock.gullrock.example", &[A, NS, SOA]),
        nsec("dock.gullrock.example", "mail.gullrock.example", &[NS]),
        nsec("mail.gullrock.example", "*.pier.gullrock.example", &[CNAME]),
        nsec("*.pier.gullrock.example", "a.b.gullrock.example", &[A]),
    ]
}

fn only(owners: &[&str]) -> Vec<Nsec> {
    chain().into_iter().filter(|nsec| owners.contains(&nsec.owner.bare().as_str())).collect()
}

#[test]
fn a_name_is_not_there_if_a_gap_covers_it_and_its_wildcard() {
    let asked = "crane.gullrock.example";
    assert_eq!(proves(only(&["gullrock.example"]), asked, RecordType::A, true), Some(Denied::Proven));
    assert_eq!(proves(only(&["dock.gullrock.example"]), asked, RecordType::A, true), None, "another gap");
    let late = "nest.gullrock.example";
    assert_eq!(proves(only(&["mail.gullrock.example"]), late, RecordType::A, true), None, "a wildcard may be there");
    let both = only(&["mail.gullrock.example", "gullrock.example"]);
    assert_eq!(proves(both, late, RecordType::A, true), Some(Denied::Proven));
    let below = "crane.dock.gullrock.example";
    assert_eq!(proves(only(&["dock.gullrock.example", "gullrock.example"]), below, RecordType::A, true), None, "a cut");
    assert_eq!(proves(vec![], asked, RecordType::A, true), None);
}

#[test]
fn a_type_is_not_there_if_the_names_own_record_says_so() {
    let apex = || only(&["gullrock.example"]);
    assert_eq!(proves(apex(), "gullrock.example", RecordType::AAAA, false), Some(Denied::Proven));
    assert_eq!(proves(apex(), "gullrock.example", RecordType::A, false), None);
    assert_eq!(proves(apex(), "gullrock.example", RecordType::DS, false), None, "that is for the parent to say");
    let cut = || only(&["dock.gullrock.example"]);
    assert_eq!(proves(cut(), "dock.gullrock.example", RecordType::DS, false), Some(Denied::Proven));
    assert_eq!(proves(cut(), "dock.gullrock.example", RecordType::A, false), None, "that is for the child to say");
    let alias = only(&["mail.gullrock.example"]);
    assert_eq!(proves(alias, "mail.gullrock.example", RecordType::A, false), None, "an alias leads on");
}

#[test]
fn empty_names_and_wildcards_are_proven_too() {
    let pier = only(&["mail.gullrock.example"]);
    assert_eq!(
        proves(pier, "pier.gullrock.example", RecordType::A, false),
        Some(Denied::Proven),
        "a name with names below"
    );
    let wildcard = only(&["*.pier.gullrock.example"]);
    let asked = "b.pier.gullrock.example";
    assert_eq!(proves(wildcard, asked, RecordType::AAAA, false), Some(Denied::Proven));
    assert_eq!(proves(only(&["*.pier.gullrock.example"]), asked, RecordType::A, false), None);
    let zone = name("gullrock.example");
    let nsec = only(&["*.pier.gullrock.example"]);
    let denials = Denials { zone: &zone, nsec, nsec3: vec![], flaw: None, unknown: false };
    assert_eq!(denials.nothing_closer(&name(asked), &name("pier.gullrock.example")), Ok(()));
    let nothing = Denials { zone: &zone, nsec: vec![], nsec3: vec![], flaw: None, unknown: false };
    assert_eq!(nothing.nothing_closer(&name(asked), &name("pier.gullrock.example")), Err(Flaw::Unproven));
}

fn hashed(salt: &[u8], iterations: u32) -> Nsec3 {
    Nsec3 { hash: vec![], next: vec![], opt_out: false, types: vec![], iterations, salt: salt.to_vec() }
}

/// RFC 5155 appendix A.
#[test]
fn names_are_hashed_as_in_the_standard() {
    let nsec3 = hashed(&[0xaa, 0xbb, 0xcc, 0xdd], 12);
    let expected = |text: &str| crate::zone::base32_hex(text).unwrap();
    assert_eq!(nsec3.hash_of(&name("example")), expected("0p9mhaveqvm6t7vbl5lop2u3t2rp3tom"));
    assert_eq!(nsec3.hash_of(&name("a.example")), expected("35mthgpgcu1qg68fab165klnsnk3dpvl"));
}

/// A record that stands for a name, or for the gap around a name.
fn hash(at: &str, gap: bool, opt_out: bool, types: &[RecordType]) -> Nsec3 {
    let step = |hash: &[u8], by: i8| {
        let mut hash = hash.to_vec();
        hash[19] = hash[19].wrapping_add_signed(by);
        hash
    };
    let mid = hashed(&[1], 0).hash_of(&name(at));
    let (hash, next) = if gap { (step(&mid, -1), step(&mid, 1)) } else { (mid.clone(), step(&mid, 1)) };
    Nsec3 { hash, next, opt_out, types: types.to_vec(), ..hashed(&[1], 0) }
}

fn proves_hashed(nsec3: Vec<Nsec3>, asked: &str, record_type: RecordType, no_such_name: bool) -> Option<Denied> {
    let zone = name("gullrock.example");
    let denials = Denials { zone: &zone, nsec: vec![], nsec3, flaw: None, unknown: false };
    denials.absence(&name(asked), record_type, no_such_name).ok()
}

#[test]
fn hashes_prove_the_same() {
    let apex = || hash("gullrock.example", false, false, &[A, NS, SOA]);
    let gap = |at: &str| hash(at, true, false, &[]);
    let asked = "crane.gullrock.example";
    let whole = vec![apex(), gap(asked), gap("*.gullrock.example")];
    assert_eq!(proves_hashed(whole, asked, RecordType::A, true), Some(Denied::Proven));
    assert_eq!(proves_hashed(vec![apex(), gap(asked)], asked, RecordType::A, true), None, "a wildcard may be there");
    assert_eq!(proves_hashed(vec![apex(), gap("*.gullrock.example")], asked, RecordType::A, true), None);
    let open = || hash(asked, true, true, &[]);
    assert_eq!(proves_hashed(vec![apex(), open()], asked, RecordType::DS, false), Some(Denied::OptedOut));
    assert_eq!(proves_hashed(vec![apex(), open()], asked, RecordType::A, false), None, "only a DS may be left out");
    assert_eq!(proves_hashed(vec![apex()], "gullrock.example", RecordType::AAAA, false), Some(Denied::Proven));
    assert_eq!(proves_hashed(vec![apex()], "gullrock.example", RecordType::A, false), None);
    let wildcard = vec![apex(), gap(asked), hash("*.gullrock.example", false, false, &[A])];
    assert_eq!(proves_hashed(wildcard, asked, RecordType::AAAA, false), Some(Denied::Proven));
    let cut = vec![hash("dock.gullrock.example", false, false, &[NS]), gap("a.dock.gullrock.example")];
    assert_eq!(proves_hashed(cut, "a.dock.gullrock.example", RecordType::DS, false), None, "below a cut");
}

#[test]
fn what_cannot_be_used_says_why() {
    let zone = name("gullrock.example");
    let with = |flaw: Option<Flaw>, unknown: bool| {
        let denials = Denials { zone: &zone, nsec: vec![], nsec3: vec![], flaw, unknown };
        denials.absence(&name("crane.gullrock.example"), RecordType::A, true)
    };
    assert_eq!(with(None, false), Err(Flaw::Unproven));
    assert_eq!(with(Some(Flaw::Missing), false), Err(Flaw::Missing));
    assert_eq!(with(None, true), Ok(Denied::Unknown), "too many iterations, or an algorithm that is not known");
}

#[test]
fn records_that_are_cut_off_prove_nothing() {
    let zone = zone();
    let whole = [&[1, 0, 0, 5, 1, 0xaa, 20][..], &[7; 20], &[0, 1, 0x40]].concat();
    let owner = name("0p9mhaveqvm6t7vbl5lop2u3t2rp3tom.gullrock.example");
    let read = |owner: &DnsName, wire: &[u8]| {
        let mut denials = Denials { zone: &zone, nsec: vec![], nsec3: vec![], flaw: None, unknown: false };
        let data = RecordData::Unknown { record_type: NSEC3, data: wire.into() };
        denials.take(&Record { owner: owner.clone(), ttl: 60, data });
        (denials.nsec3.len(), denials.unknown)
    };
    assert_eq!(read(&owner, &whole), (1, false));
    for length in 0..whole.len() - 3 {
        assert_eq!(read(&owner, &whole[..length]), (0, false), "{length} bytes");
    }
    assert_eq!(read(&name("0p9mhaveqvm6t7vbl5lop2u3t2rp3tom.oldquay.example"), &whole), (0, false), "another zone's");
    assert_eq!(read(&name("not-a-hash!.gullrock.example"), &whole), (0, false));
    let many = [&whole[..2], &[0, 151], &whole[4..]].concat();
    assert_eq!(read(&owner, &many), (0, true), "too many iterations to compute");
    let strange = [&[2][..], &whole[1..]].concat();
    assert_eq!(read(&owner, &strange), (0, false), "no such hash");
}

fn zone() -> DnsName {
    name("gullrock.example")
}

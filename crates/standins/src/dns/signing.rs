//! Signs a zone of a stand-in, whole, with one fixed Ed25519 key and an NSEC chain; the codec crate knows the forms. Zones
//! say so by lines that a zone file takes for comments:
//!
//! ```text
//! ;sign EXPIRATION INCEPTION     sign every set between these times
//! ;alter OWNER TYPE DATA         afterwards, other data for a set
//! ;bare OWNER TYPE               afterwards, no signature for a set
//! ;forget OWNER                  afterwards, no NSEC record there
//! ```

use aws_lc_rs::digest::{SHA256, digest};
use aws_lc_rs::signature::{Ed25519KeyPair, KeyPair};
use base64::Engine;
use bytes::Bytes;
use domain::base::iana::{Rtype, SecurityAlgorithm};
use domain::base::name::ToName;
use domain::base::rdata::ComposeRecordData;
use domain::base::{Record, Ttl};
use domain::rdata::ZoneRecordData;
use domain::rdata::dnssec::{Nsec, ProtoRrsig, RtypeBitmapBuilder, Timestamp};
use domain::zonefile::inplace::{Entry, Zonefile};

use super::zone_data::{ZoneData, ZoneName, ZoneRecord, zone_name};

/// The one key of all signed zones; `[8; 32]` makes another.
const SEED: [u8; 32] = [7; 32];

fn key(seed: &[u8; 32]) -> Ed25519KeyPair {
    Ed25519KeyPair::from_seed_unchecked(seed).expect("any 32 bytes are a seed")
}

/// Flags (a key that a DS may stand for), protocol, algorithm, key.
fn key_data(seed: &[u8; 32]) -> Vec<u8> {
    [&[1, 1, 3, 15][..], key(seed).public_key().as_ref()].concat()
}

/// RFC 4034 appendix B.
fn key_tag(data: &[u8]) -> u16 {
    let sum: u32 =
        data.chunks(2).map(|pair| u32::from(pair[0]) << 8 | pair.get(1).map_or(0, |low| u32::from(*low))).sum();
    (sum + (sum >> 16)) as u16
}

/// `{key}` and `{stranger}` as the data of DNSKEY records, `{ds OWNER}` as that of the DS record for the key at that owner.
pub(crate) fn fill_keys(text: &str) -> String {
    let encoded = |seed| format!("257 3 15 {}", base64::engine::general_purpose::STANDARD.encode(&key_data(seed)[4..]));
    let mut text = text.replace("{key}", &encoded(&SEED)).replace("{stranger}", &encoded(&[8; 32]));
    while let Some((before, after)) = text.split_once("{ds ") {
        let Some((owner, behind)) = after.split_once('}') else { break };
        let name = zone_name(owner).expect("an owner in a scenario is a name");
        let data = key_data(&SEED);
        let hashed = digest(&SHA256, &[name.as_slice(), &data].concat());
        let hex: String = hashed.as_ref().iter().map(|byte| format!("{byte:02x}")).collect();
        text = format!("{before}{} 15 2 {hex}{behind}", key_tag(&data));
    }
    text
}

/// Does what the lines of a zone's text say; without any, nothing.
pub(crate) fn sign(zone: &mut ZoneData, text: &str) -> Result<(), String> {
    for line in text.lines() {
        let words: Vec<&str> = line.splitn(4, ' ').collect();
        match words[..] {
            [";sign", expiration, inception] => sign_all(zone, expiration, inception)?,
            [";alter", owner, rtype, data] => {
                let altered = read_one(zone, &format!("{owner} 3600 IN {rtype} {data}\n"))?;
                zone.retain(|record| record.owner() != altered.owner() || record.rtype() != altered.rtype());
                zone.add(altered);
            }
            [";bare", owner, rtype] => {
                let like = read_one(zone, &format!("{owner} 3600 IN TXT x\n"))?;
                let covers = |record: &ZoneRecord| match record.data() {
                    ZoneRecordData::Rrsig(signature) => signature.type_covered().to_string() == rtype,
                    _ => false,
                };
                zone.retain(|record| record.owner() != like.owner() || !covers(record));
            }
            [";forget", owner] => {
                let like = read_one(zone, &format!("{owner} 3600 IN TXT x\n"))?;
                zone.retain(|record| record.owner() != like.owner() || record.rtype() != Rtype::NSEC);
            }
            _ => {}
        }
    }
    Ok(())
}

fn read_one(zone: &ZoneData, line: &str) -> Result<ZoneRecord, String> {
    let mut file = Zonefile::from(line);
    file.set_origin(zone.origin.clone());
    match file.next_entry().map_err(|error| format!("{line}: {error:?}"))? {
        Some(Entry::Record(record)) => Ok(domain::base::name::FlattenInto::flatten_into(record)),
        _ => Err(format!("{line}: no record")),
    }
}

fn sign_all(zone: &mut ZoneData, expiration: &str, inception: &str) -> Result<(), String> {
    let own: Vec<(ZoneName, Vec<Rtype>)> = zone.own_sets();
    let mut nsec = Vec::new();
    for (at, (owner, types)) in own.iter().enumerate() {
        let mut bits = RtypeBitmapBuilder::new_vec();
        for rtype in types.iter().chain(&[Rtype::RRSIG, Rtype::NSEC]) {
            bits.add(*rtype).map_err(|_| "a type bit map has no room")?;
        }
        let next = own[(at + 1) % own.len()].0.clone();
        let bits = bits.finalize();
        let octets = Bytes::from(bits.as_octets().clone());
        let types = domain::rdata::dnssec::RtypeBitmap::from_octets(octets).map_err(|error| error.to_string())?;
        nsec.push(record(owner, ZoneRecordData::Nsec(Nsec::new(next, types))));
    }
    nsec.into_iter().for_each(|record| zone.add(record));
    for (owner, types) in zone.own_sets() {
        let is_cut = owner != zone.origin && types.contains(&Rtype::NS);
        // A parent vouches for the DS at a cut, and for what is not there; the rest is the child's.
        for rtype in types.into_iter().filter(|rtype| !is_cut || [Rtype::DS, Rtype::NSEC].contains(rtype)) {
            let signature = signature_of(zone, &owner, rtype, expiration, inception)?;
            zone.add(signature);
        }
    }
    Ok(())
}

fn record(owner: &ZoneName, data: ZoneRecordData<Bytes, ZoneName>) -> ZoneRecord {
    Record::new(owner.clone(), domain::base::iana::Class::IN, Ttl::from_secs(3600), data)
}

fn signature_of(
    zone: &ZoneData,
    owner: &ZoneName,
    rtype: Rtype,
    expiration: &str,
    inception: &str,
) -> Result<ZoneRecord, String> {
    let time = |text: &str| text.parse::<Timestamp>().map_err(|error| format!("{text}: {error}"));
    let (labels, tag) = ((owner.label_count() - 1) as u8, key_tag(&key_data(&SEED)));
    let (until, from, ttl) = (time(expiration)?, time(inception)?, Ttl::from_secs(3600));
    let unsigned =
        ProtoRrsig::new(rtype, SecurityAlgorithm::ED25519, labels, ttl, until, from, tag, zone.origin.clone());
    let mut message = Vec::new();
    unsigned.compose_canonical(&mut message).expect("a vector has room");
    let mut all: Vec<Vec<u8>> = Vec::new();
    for record in zone.at(owner, rtype) {
        let mut data = Vec::new();
        record.data().compose_canonical_rdata(&mut data).expect("a vector has room");
        all.push(data);
    }
    all.sort();
    for data in all {
        owner.compose_canonical(&mut message).expect("a vector has room");
        message.extend(rtype.to_int().to_be_bytes());
        message.extend([0, 1]);
        message.extend(ttl.as_secs().to_be_bytes());
        message.extend((data.len() as u16).to_be_bytes());
        message.extend(data);
    }
    let signature = Bytes::copy_from_slice(key(&SEED).sign(&message).as_ref());
    let signed = unsigned.into_rrsig(signature).map_err(|error| error.to_string())?;
    Ok(record(owner, ZoneRecordData::Rrsig(signed)))
}

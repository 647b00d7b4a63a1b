//! The records of DNSSEC that bind a zone to its parent, read from their wire form (RFC 4034): DS, DNSKEY, and when a
//! signature holds. `verify` says whether it is one at all, `denial` what proves that something is not there; which of
//! all these are asked for and tied together is in `chain` and `signed` beside this folder.

pub(super) mod denial;
mod verify;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use sha1::Sha1;
use sha2::{Digest, Sha256, Sha384};

use crate::name::DnsName;
use crate::zone::{Record, RecordType};

pub use verify::{Checked, Flaw, check, signer_of};

/// What the parent says about a key of the zone (RFC 4034 section 5).
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Ds {
    pub key_tag: u16,
    pub algorithm: u8,
    pub digest_type: u8,
    pub digest: Vec<u8>,
}

/// A key of the zone (RFC 4034 section 2).
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Key {
    pub flags: u16,
    pub algorithm: u8,
    pub key_tag: u16,
    /// The whole record data: what a DS is the digest of.
    #[serde(skip)]
    wire: Vec<u8>,
}

/// A signature over a record set (RFC 4034 section 3).
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Signature {
    pub covered: RecordType,
    pub algorithm: u8,
    pub key_tag: u16,
    pub inception: Timestamp,
    pub expiration: Timestamp,
}

impl Ds {
    pub fn of(record: &Record) -> Option<Self> {
        let wire = wire_of(record, RecordType::DS)?;
        let (head, digest) = wire.split_at_checked(4)?;
        let key_tag = u16::from_be_bytes([head[0], head[1]]);
        Some(Self { key_tag, algorithm: head[2], digest_type: head[3], digest: digest.to_vec() })
    }

    /// The DS that a child asks its parent for by a CDS record (RFC 7344 section 3.1); none for the one that asks for no DS at
    /// all (RFC 8078 section 4).
    pub fn wanted_by(record: &Record) -> Option<Self> {
        let wire = wire_of(record, RecordType::CDS)?;
        let (head, digest) = wire.split_at_checked(4)?;
        let key_tag = u16::from_be_bytes([head[0], head[1]]);
        (head[2] != 0).then(|| Self { key_tag, algorithm: head[2], digest_type: head[3], digest: digest.to_vec() })
    }

    /// Whether validating resolvers know its algorithm and digest (RFC 8624 section 3); others count as no DS at all.
    pub fn is_supported(&self) -> bool {
        matches!(self.algorithm, 8 | 10 | 13 | 14 | 15 | 16) && matches!(self.digest_type, 1 | 2 | 4)
    }

    /// Whether it is the digest of the key at `owner` (RFC 4034 section 5.1.4).
    pub fn is_of(&self, key: &Key, owner: &DnsName) -> bool {
        let digest = match self.digest_type {
            1 => key.digest::<Sha1>(owner),
            2 => key.digest::<Sha256>(owner),
            4 => key.digest::<Sha384>(owner),
            _ => return false,
        };
        self.key_tag == key.key_tag && self.algorithm == key.algorithm && digest == self.digest
    }

    /// As it is handed to a registrar.
    pub fn text(&self) -> String {
        let digest: String = self.digest.iter().map(|byte| format!("{byte:02X}")).collect();
        format!("{} {} {} {digest}", self.key_tag, self.algorithm, self.digest_type)
    }
}

impl Key {
    pub fn of(record: &Record) -> Option<Self> {
        let wire = wire_of(record, RecordType::DNSKEY)?;
        let head = wire.get(..4)?;
        let (flags, algorithm) = (u16::from_be_bytes([head[0], head[1]]), head[3]);
        Some(Self { flags, algorithm, key_tag: key_tag(&wire), wire })
    }

    /// Whether it is meant to be pointed at from the parent (RFC 4034 section 2.1.1).
    pub fn is_entry_point(&self) -> bool {
        self.flags & 0x0101 == 0x0101
    }

    /// The DS that the parent should have for it, by SHA-256.
    pub fn ds(&self, owner: &DnsName) -> Ds {
        let digest = self.digest::<Sha256>(owner);
        Ds { key_tag: self.key_tag, algorithm: self.algorithm, digest_type: 2, digest }
    }

    /// Of the owner's name in canonical form and the record data (RFC 4034 section 5.1.4).
    fn digest<D: Digest>(&self, owner: &DnsName) -> Vec<u8> {
        D::new().chain_update(owner.wire()).chain_update(&self.wire).finalize().to_vec()
    }
}

/// RFC 4034 appendix B.
fn key_tag(wire: &[u8]) -> u16 {
    let mut sum = 0_u32;
    for (at, byte) in wire.iter().enumerate() {
        sum += if at % 2 == 0 { u32::from(*byte) << 8 } else { u32::from(*byte) };
    }
    (sum + (sum >> 16)) as u16
}

impl Signature {
    /// `now` tells which of the 136-year rounds of the clock is meant (RFC 4034 section 3.1.5).
    pub fn of(record: &Record, now: Timestamp) -> Option<Self> {
        let wire = wire_of(record, RecordType::RRSIG)?;
        let head = wire.get(..18)?;
        let number = |at: usize| u32::from_be_bytes([head[at], head[at + 1], head[at + 2], head[at + 3]]);
        let moment = |seconds: u32| {
            let distance = seconds.wrapping_sub(now.as_second() as u32) as i32;
            Timestamp::from_second(now.as_second() + i64::from(distance)).ok()
        };
        Some(Self {
            covered: RecordType(u16::from_be_bytes([head[0], head[1]])),
            algorithm: head[2],
            expiration: moment(number(8))?,
            inception: moment(number(12))?,
            key_tag: u16::from_be_bytes([head[16], head[17]]),
        })
    }

    pub fn holds(&self, now: Timestamp) -> bool {
        self.inception <= now && now <= self.expiration
    }
}

fn wire_of(record: &Record, record_type: RecordType) -> Option<Vec<u8>> {
    (record.record_type() == record_type).then(|| record.data.to_wire())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::zone::RecordData;

    fn record(record_type: RecordType, wire: Vec<u8>) -> Record {
        let owner = DnsName::absolute("dskey.example.com").unwrap();
        Record { owner, ttl: 60, data: RecordData::from_wire(record_type, &wire).unwrap() }
    }

    /// The key and its digest of RFC 4509 section 2.3 (the key is that of RFC 4034 section 5.4).
    #[test]
    fn a_digest_belongs_to_its_key() {
        use base64::Engine;
        let key = "AQOeiiR0GOMYkDshWoSKz9XzfwJr1AYtsmx3TGkJaNXVbfi/2pHm822aJ5iI9BMzNXxeYCmZDRD99WYwYqUSdjMmmAphXdvx\
                   egXd/M5+X7OrzKBaMbCVdFLUUh6DhweJBjEVv5f2wwjM9XzcnOf+EPbtG9DMBmADjFDc2w/rljwvFw==";
        let mut wire = vec![1, 0, 3, 5];
        wire.extend(base64::engine::general_purpose::STANDARD.decode(key).unwrap());
        let key = Key::of(&record(RecordType::DNSKEY, wire)).unwrap();
        assert_eq!((key.key_tag, key.is_entry_point()), (60485, false));
        let digest = "D4B7D520E7BB5F0F67674A0CCEB1E3E0614B93C4F9E99B8383F6A1E4469DA50A";
        let owner = DnsName::absolute("dskey.example.com").unwrap();
        let ds = key.ds(&owner);
        assert_eq!(ds.text(), format!("60485 5 2 {digest}"));
        assert!(ds.is_of(&key, &owner) && !ds.is_of(&key, &DnsName::absolute("example.com").unwrap()));
        assert!(!ds.is_supported(), "algorithm 5 is RSA with SHA-1");
    }

    #[test]
    fn a_signature_holds_between_its_two_times_in_any_round_of_the_clock() {
        let at = |text: &str| text.parse::<Timestamp>().unwrap();
        let (from, to) = (at("2106-02-01T00:00:00Z"), at("2106-02-20T00:00:00Z"));
        let mut wire = vec![0, 6, 13, 2, 0, 0, 0, 60];
        wire.extend((to.as_second() as u32).to_be_bytes());
        wire.extend((from.as_second() as u32).to_be_bytes());
        wire.extend([0, 7, 0]);
        wire.extend([1; 64]);
        let signature = Signature::of(&record(RecordType::RRSIG, wire), at("2106-02-10T00:00:00Z")).unwrap();
        assert_eq!((signature.inception, signature.expiration, signature.covered), (from, to, RecordType::SOA));
        assert!(signature.holds(at("2106-02-10T00:00:00Z")) && !signature.holds(at("2106-03-01T00:00:00Z")));
    }
}

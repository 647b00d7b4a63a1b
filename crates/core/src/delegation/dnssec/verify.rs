//! Whether a signature over a record set holds: the canonical form (RFC 4034 section 6) and the algorithms of RFC 8624.
//! `denial` reads what proves that something is not there; `chain` asks who may sign at all. The arithmetic is aws-lc's.

use aws_lc_rs::signature::{
    ECDSA_P256_SHA256_FIXED, ECDSA_P384_SHA384_FIXED, ED25519, RSA_PKCS1_1024_8192_SHA256_FOR_LEGACY_USE_ONLY,
    RSA_PKCS1_1024_8192_SHA512_FOR_LEGACY_USE_ONLY, RsaParameters, RsaPublicKeyComponents, UnparsedPublicKey,
    VerificationAlgorithm,
};
use jiff::Timestamp;
use serde::Serialize;

use super::{Key, Signature};
use crate::finding::minute;
use crate::name::DnsName;
use crate::zone::{Field, Record, RecordData, RecordType};

/// Verifications of one set; a hostile zone has more signatures and keys of one tag than anybody needs.
const MOST_TRIED: usize = 16;

/// What is wrong with the signatures of one set, the more telling ones later: a set of keys is signed by all of them, and
/// only those that the parent knows count.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Flaw {
    /// There is none.
    Missing,
    /// By a key that is none of those that may sign it.
    Stranger {
        key_tag: u16,
    },
    NotYet {
        from: Timestamp,
    },
    Expired {
        on: Timestamp,
    },
    /// The signature is not one over these records by that key.
    Altered {
        key_tag: u16,
    },
    /// An answer of "no such name" or "no such records" without the proof of it.
    Unproven,
}

/// What was found about one set.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Checked {
    Holds,
    /// It holds for what a wildcard stands for below this name: that nothing closer is there needs a proof of its own.
    HoldsByWildcard {
        encloser: DnsName,
    },
    /// Its algorithms are not known here: it counts as not signed.
    Unknown,
    Bad(Flaw),
}

/// Checks one record set, all of one owner and type, with the signatures that came along. `keys` are those that may sign
/// in `zone`.
pub fn check(set: &[&Record], among: &[Record], keys: &[Key], zone: &DnsName, now: Timestamp) -> Checked {
    let Some(first) = set.first() else { return Checked::Unknown };
    let covering = |record: &&Record| record.owner == first.owner && record.record_type() == RecordType::RRSIG;
    let signed: Vec<Signed> = among
        .iter()
        .filter(covering)
        .filter_map(|record| Signed::of(record, now))
        .filter(|signed| signed.times.covered == first.record_type() && signed.signer == *zone)
        .collect();
    let (mut worst, mut tried, mut unknown) = (Flaw::Missing, 0, false);
    for signed in &signed {
        let key_tag = signed.times.key_tag;
        let fits = |key: &&Key| key.key_tag == key_tag && key.algorithm == signed.times.algorithm && key.may_sign();
        if !is_known(signed.times.algorithm) {
            unknown = true;
            continue;
        }
        let mut flaw = Flaw::Stranger { key_tag };
        for key in keys.iter().filter(fits) {
            tried += 1;
            if tried > MOST_TRIED {
                break;
            }
            flaw = match signed.times {
                Signature { inception, .. } if inception > now => Flaw::NotYet { from: inception },
                Signature { expiration, .. } if expiration < now => Flaw::Expired { on: expiration },
                _ => match signed.message(set).filter(|message| key.verifies(message, signed.signature())) {
                    Some(_) => return signed.closest_encloser(&first.owner).map_or(Checked::Holds, by_wildcard),
                    None => Flaw::Altered { key_tag },
                },
            };
        }
        worst = worst.max(flaw);
    }
    if worst == Flaw::Missing && unknown { Checked::Unknown } else { Checked::Bad(worst) }
}

fn by_wildcard(encloser: DnsName) -> Checked {
    Checked::HoldsByWildcard { encloser }
}

impl std::fmt::Display for Flaw {
    /// As the end of a sentence whose subject is the record set.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Flaw::Missing => f.write_str("has no signature"),
            Flaw::NotYet { from } => write!(f, "has a signature that is valid from {} on", minute(*from)),
            Flaw::Expired { on } => write!(f, "has a signature that has expired on {}", minute(*on)),
            Flaw::Stranger { key_tag } => write!(f, "is signed by the key {key_tag}, which may not sign it"),
            Flaw::Altered { key_tag } => write!(f, "is not what the key {key_tag} has signed"),
            Flaw::Unproven => f.write_str("is not proven"),
        }
    }
}

/// The zone in whose name a signature was made.
pub fn signer_of(record: &Record) -> Option<DnsName> {
    match &record.data {
        RecordData::Fields { record_type: RecordType::RRSIG, fields } => fields.iter().find_map(|field| match field {
            Field::Name(signer) => Some(signer.clone()),
            _ => None,
        }),
        _ => None,
    }
}

/// Whether signatures of this algorithm can be verified here.
fn is_known(algorithm: u8) -> bool {
    matches!(algorithm, 8 | 10 | 13 | 14 | 15)
}

/// An RRSIG record, whole.
struct Signed {
    times: Signature,
    signer: DnsName,
    wire: Vec<u8>,
    /// Where the signature begins in it.
    at: usize,
}

impl Signed {
    fn of(record: &Record, now: Timestamp) -> Option<Self> {
        let times = Signature::of(record, now)?;
        let wire = record.data.to_wire();
        let signer = signer_of(record)?;
        let at = 18 + signer.wire().len();
        (at < wire.len()).then_some(Self { times, signer, wire, at })
    }

    fn signature(&self) -> &[u8] {
        &self.wire[self.at..]
    }

    fn labels(&self) -> usize {
        usize::from(self.wire[3])
    }

    /// The name below which a wildcard stood for the owner (RFC 4035 section 5.3.4).
    fn closest_encloser(&self, owner: &DnsName) -> Option<DnsName> {
        let labels: Vec<&[u8]> = owner.labels().collect();
        let is_wildcard = labels.first().is_some_and(|label| *label == b"*");
        let own = labels.len() - usize::from(is_wildcard);
        (self.labels() < own).then(|| DnsName::from_labels(labels[labels.len() - self.labels()..].to_vec()).ok())?
    }

    /// What was signed (RFC 4034 section 3.1.8.1); `None` if the owner cannot have been signed like this.
    fn message(&self, set: &[&Record]) -> Option<Vec<u8>> {
        let owner = &set[0].owner;
        let labels = owner.labels().filter(|label| *label != b"*").count();
        let owner = match self.closest_encloser(owner) {
            Some(encloser) => [&[1, b'*'][..], encloser.wire()].concat(),
            None if self.labels() > labels => return None,
            None => owner.wire().to_vec(),
        };
        let mut message = self.wire[..18].to_vec();
        message.extend(self.signer.wire());
        let mut data: Vec<Vec<u8>> = set.iter().map(|record| record.data.to_wire()).collect();
        data.sort();
        data.dedup();
        for data in data {
            message.extend(&owner);
            message.extend(self.times.covered.0.to_be_bytes());
            message.extend([0, 1]);
            message.extend(&self.wire[4..8]);
            message.extend(u16::try_from(data.len()).ok()?.to_be_bytes());
            message.extend(data);
        }
        Some(message)
    }
}

impl Key {
    /// A key of the zone that is not revoked (RFC 4034 section 2.1.1, RFC 5011 section 2.1).
    pub fn may_sign(&self) -> bool {
        self.flags & 0x0180 == 0x0100 && self.wire[2] == 3
    }

    fn verifies(&self, message: &[u8], signature: &[u8]) -> bool {
        let key = &self.wire[4..];
        let by = |algorithm: &'static dyn VerificationAlgorithm, key: &[u8]| {
            UnparsedPublicKey::new(algorithm, key).verify(message, signature).is_ok()
        };
        let by_rsa = |parameters: &RsaParameters| {
            rsa(key).is_some_and(|components| components.verify(parameters, message, signature).is_ok())
        };
        match self.algorithm {
            8 => by_rsa(&RSA_PKCS1_1024_8192_SHA256_FOR_LEGACY_USE_ONLY),
            10 => by_rsa(&RSA_PKCS1_1024_8192_SHA512_FOR_LEGACY_USE_ONLY),
            // RFC 6605 section 4: the two numbers of the point alone; the codec wants to know that it is not compressed.
            13 => by(&ECDSA_P256_SHA256_FIXED, &[&[4], key].concat()),
            14 => by(&ECDSA_P384_SHA384_FIXED, &[&[4], key].concat()),
            15 => by(&ED25519, key),
            _ => false,
        }
    }
}

/// RFC 3110 section 2: the length of the exponent, in one byte or in three, the exponent, the modulus.
fn rsa(key: &[u8]) -> Option<RsaPublicKeyComponents<&[u8]>> {
    let (length, rest) = match key.split_first()? {
        (0, rest) => (usize::from(u16::from_be_bytes(rest.get(..2)?.try_into().ok()?)), &rest[2..]),
        (length, rest) => (usize::from(*length), rest),
    };
    let (e, n) = rest.split_at_checked(length)?;
    let unpadded = |number: &'_ [u8]| number.iter().position(|byte| *byte != 0).unwrap_or(number.len());
    Some(RsaPublicKeyComponents { n: &n[unpadded(n)..], e: &e[unpadded(e)..] })
}

#[cfg(test)]
#[path = "verify_tests.rs"]
mod tests;

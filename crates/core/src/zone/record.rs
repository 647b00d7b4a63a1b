//! One resource record, and the register of record types (RFC 1035 section 3.2, IANA "DNS Parameters").

use std::fmt;

use serde::{Deserialize, Serialize};

use super::RecordData;
use crate::name::DnsName;

/// A resource record of class IN. The TTL is in seconds.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Record {
    pub owner: DnsName,
    pub ttl: u32,
    pub data: RecordData,
}

impl Record {
    pub fn record_type(&self) -> RecordType {
        self.data.record_type()
    }

    /// The set that it is of: its owner and type, and of a signature the type that it covers, since each has a TTL of its own
    /// (RFC 4034 section 3).
    pub fn set(&self) -> (&DnsName, RecordType, Option<RecordType>) {
        (&self.owner, self.record_type(), self.data.covered())
    }
}

impl fmt::Display for Record {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {} IN {} {}", self.owner, self.ttl, self.record_type(), self.data)
    }
}

/// A record type by its number; shown by its mnemonic, or as `TYPE123` (RFC 3597 section 5).
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct RecordType(pub u16);

const MNEMONICS: &[(u16, &str)] = &[
    (1, "A"),
    (2, "NS"),
    (3, "MD"),
    (4, "MF"),
    (5, "CNAME"),
    (6, "SOA"),
    (7, "MB"),
    (8, "MG"),
    (9, "MR"),
    (10, "NULL"),
    (11, "WKS"),
    (12, "PTR"),
    (13, "HINFO"),
    (14, "MINFO"),
    (15, "MX"),
    (16, "TXT"),
    (17, "RP"),
    (18, "AFSDB"),
    (19, "X25"),
    (20, "ISDN"),
    (21, "RT"),
    (22, "NSAP"),
    (23, "NSAP-PTR"),
    (24, "SIG"),
    (25, "KEY"),
    (26, "PX"),
    (27, "GPOS"),
    (28, "AAAA"),
    (29, "LOC"),
    (30, "NXT"),
    (31, "EID"),
    (32, "NIMLOC"),
    (33, "SRV"),
    (34, "ATMA"),
    (35, "NAPTR"),
    (36, "KX"),
    (37, "CERT"),
    (38, "A6"),
    (39, "DNAME"),
    (40, "SINK"),
    (42, "APL"),
    (43, "DS"),
    (44, "SSHFP"),
    (45, "IPSECKEY"),
    (46, "RRSIG"),
    (47, "NSEC"),
    (48, "DNSKEY"),
    (49, "DHCID"),
    (50, "NSEC3"),
    (51, "NSEC3PARAM"),
    (52, "TLSA"),
    (53, "SMIMEA"),
    (55, "HIP"),
    (56, "NINFO"),
    (57, "RKEY"),
    (58, "TALINK"),
    (59, "CDS"),
    (60, "CDNSKEY"),
    (61, "OPENPGPKEY"),
    (62, "CSYNC"),
    (63, "ZONEMD"),
    (64, "SVCB"),
    (65, "HTTPS"),
    (66, "DSYNC"),
    (67, "HHIT"),
    (68, "BRID"),
    (99, "SPF"),
    (100, "UINFO"),
    (101, "UID"),
    (102, "GID"),
    (103, "UNSPEC"),
    (104, "NID"),
    (105, "L32"),
    (106, "L64"),
    (107, "LP"),
    (108, "EUI48"),
    (109, "EUI64"),
    (256, "URI"),
    (257, "CAA"),
    (258, "AVC"),
    (259, "DOA"),
    (260, "AMTRELAY"),
    (261, "RESINFO"),
    (262, "WALLET"),
    (263, "CLA"),
    (264, "IPN"),
    (32768, "TA"),
    (32769, "DLV"),
];

impl RecordType {
    pub const A: Self = Self(1);
    pub const NS: Self = Self(2);
    pub const CNAME: Self = Self(5);
    pub const SOA: Self = Self(6);
    pub const MX: Self = Self(15);
    pub const TXT: Self = Self(16);
    pub const AAAA: Self = Self(28);
    pub const DNAME: Self = Self(39);
    pub const DS: Self = Self(43);
    pub const CDS: Self = Self(59);
    pub const CDNSKEY: Self = Self(60);
    pub const RRSIG: Self = Self(46);
    pub const DNSKEY: Self = Self(48);
    /// A question for the whole zone (RFC 5936).
    pub const AXFR: Self = Self(252);

    /// Whether it stands in questions or messages alone: never in a zone (RFC 6895 section 3.1).
    pub fn is_meta(self) -> bool {
        self.0 == 0 || self.0 == 41 || (128..=255).contains(&self.0)
    }

    /// Whether it has a mnemonic, and data that is written in a form of its own.
    pub fn is_named(self) -> bool {
        // Data of NULL has none (RFC 1035 section 3.3.10), nor of those that nobody wrote down (UINFO, UID, GID, UNSPEC).
        self.0 != 10 && !(100..=103).contains(&self.0) && MNEMONICS.iter().any(|(number, _)| *number == self.0)
    }

    /// Reads a mnemonic in any case, or `TYPE123`.
    pub fn parse(text: &str) -> Option<Self> {
        // The types that large zones are made of, before the whole register is gone through.
        match text {
            "A" => return Some(Self::A),
            "AAAA" => return Some(Self::AAAA),
            "NS" => return Some(Self::NS),
            "CNAME" => return Some(Self::CNAME),
            "MX" => return Some(Self::MX),
            "TXT" => return Some(Self::TXT),
            _ => {}
        }
        if let Some((number, _)) = MNEMONICS.iter().find(|(_, name)| name.eq_ignore_ascii_case(text)) {
            return Some(Self(*number));
        }
        let digits = text.get(..4).filter(|head| head.eq_ignore_ascii_case("TYPE")).map(|_| &text[4..])?;
        digits.parse().ok().map(Self)
    }
}

impl fmt::Display for RecordType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match MNEMONICS.iter().find(|(number, _)| *number == self.0) {
            Some((_, name)) => f.pad(name),
            None => f.pad(&format!("TYPE{}", self.0)),
        }
    }
}

impl fmt::Debug for RecordType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl TryFrom<String> for RecordType {
    type Error = String;
    fn try_from(text: String) -> Result<Self, String> {
        Self::parse(&text).ok_or_else(|| format!("`{text}` is not a record type"))
    }
}

impl From<RecordType> for String {
    fn from(record_type: RecordType) -> String {
        record_type.to_string()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn types_by_mnemonic_and_by_number() {
        assert_eq!(RecordType::parse("aaaa"), Some(RecordType::AAAA));
        assert_eq!(RecordType::parse("TYPE257").unwrap().to_string(), "CAA");
        assert_eq!(RecordType::parse("type64000").unwrap().to_string(), "TYPE64000");
        for wrong in ["", "TYPE", "TYPE65536", "NOPE", "ÄÖ"] {
            assert_eq!(RecordType::parse(wrong), None, "{wrong}");
        }
    }
}

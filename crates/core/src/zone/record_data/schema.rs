//! What the data of each record type is made of: one row a type, after the RFC that defines it.
//!
//! `fields` reads and writes the parts; the few types that decisions rest on have variants of their own in `mod`.

use super::super::RecordType;

/// One part of record data.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Part {
    U8,
    U16,
    U32,
    /// Seconds, or with units.
    Seconds,
    Name,
    /// A character string of at most 255 bytes.
    Text,
    /// The rest of the data as one string without a length of its own.
    LongText,
    /// All remaining tokens, each a character string.
    Texts,
    /// The rest, in hexadecimal; blanks may stand anywhere.
    Hex,
    /// The rest, in base64.
    Base64,
    /// Hexadecimal behind a length byte, `-` for none.
    Salt,
    /// Base32hex behind a length byte.
    Hash,
    /// A DNSSEC algorithm by number or mnemonic.
    Algorithm,
    /// A certificate type by number or mnemonic (RFC 4398).
    CertificateType,
    /// A record type.
    Type,
    /// All remaining tokens, each a record type: a bitmap on the wire.
    Types,
    /// A moment as YYYYMMDDHHmmSS or seconds.
    Moment,
    /// A CAA tag: letters and digits.
    Tag,
    /// A position on earth (RFC 1876).
    Location,
    /// Service parameters (RFC 9460).
    Parameters,
}

use Part::*;

/// The parts of a type's data; `None` for a type that is only known by its number.
pub(super) fn parts_of(record_type: RecordType) -> Option<&'static [Part]> {
    Some(match record_type.0 {
        12 | 39 => &[Name],                                                       // PTR, DNAME
        13 => &[Text, Text],                                                      // HINFO
        17 => &[Name, Name],                                                      // RP (RFC 1183)
        18 | 36 => &[U16, Name],                                                  // AFSDB, KX
        29 => &[Location],                                                        // LOC
        33 => &[U16, U16, U16, Name],                                             // SRV (RFC 2782)
        35 => &[U16, U16, Text, Text, Text, Name],                                // NAPTR (RFC 3403)
        37 => &[CertificateType, U16, Algorithm, Base64],                         // CERT (RFC 4398)
        43 | 59 => &[U16, Algorithm, U8, Hex],                                    // DS, CDS (RFC 4034, 7344)
        44 => &[U8, U8, Hex],                                                     // SSHFP (RFC 4255)
        46 => &[Type, Algorithm, U8, Seconds, Moment, Moment, U16, Name, Base64], // RRSIG (RFC 4034)
        47 => &[Name, Types],                                                     // NSEC
        48 | 60 => &[U16, U8, Algorithm, Base64],                                 // DNSKEY, CDNSKEY
        50 => &[U8, U8, U16, Salt, Hash, Types],                                  // NSEC3 (RFC 5155)
        51 => &[U8, U8, U16, Salt],                                               // NSEC3PARAM
        52 | 53 => &[U8, U8, U8, Hex],                                            // TLSA, SMIMEA (RFC 6698, 8162)
        61 => &[Base64],                                                          // OPENPGPKEY (RFC 7929)
        62 => &[U32, U16, Types],                                                 // CSYNC (RFC 7477)
        63 => &[U32, U8, U8, Hex],                                                // ZONEMD (RFC 8976)
        64 | 65 => &[U16, Name, Parameters],                                      // SVCB, HTTPS (RFC 9460)
        99 => &[Texts],                                                           // SPF (RFC 7208, obsolete)
        256 => &[U16, U16, LongText],                                             // URI (RFC 7553)
        257 => &[U8, Tag, LongText],                                              // CAA (RFC 8659)
        _ => return None,
    })
}

/// The mnemonics of DNSSEC algorithms (IANA "DNS Security Algorithm Numbers").
pub(super) const ALGORITHMS: &[(u32, &str)] = &[
    (1, "RSAMD5"),
    (2, "DH"),
    (3, "DSA"),
    (5, "RSASHA1"),
    (6, "NSEC3DSA"),
    (7, "NSEC3RSASHA1"),
    (8, "RSASHA256"),
    (10, "RSASHA512"),
    (12, "ECCGOST"),
    (13, "ECDSAP256SHA256"),
    (14, "ECDSAP384SHA384"),
    (15, "ED25519"),
    (16, "ED448"),
    (252, "INDIRECT"),
    (253, "PRIVATEDNS"),
    (254, "PRIVATEOID"),
];

/// The mnemonics of certificate types (RFC 4398 section 2.1).
pub(super) const CERTIFICATE_TYPES: &[(u32, &str)] = &[
    (1, "PKIX"),
    (2, "SPKI"),
    (3, "PGP"),
    (4, "IPKIX"),
    (5, "ISPKI"),
    (6, "IPGP"),
    (7, "ACPKIX"),
    (8, "IACPKIX"),
    (253, "URI"),
    (254, "OID"),
];

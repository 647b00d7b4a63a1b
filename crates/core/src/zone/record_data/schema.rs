//! What the data of each record type is made of: one row a type, after the RFC that defines it.
//!
//! `fields` reads and writes the parts; the few types that decisions rest on have variants of their own in `mod`.

use super::super::RecordType;
use super::forms::Form;

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
    /// The same, or nothing.
    MaybeText,
    /// A character string that says how a name is rewritten (RFC 3402).
    Rewriting,
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
    /// A character string of at least four digits (RFC 1183 section 3.1).
    Digits,
    /// The flags of a key, by number or as words joined by `|` (RFC 2535 section 7.1).
    KeyFlags,
    /// The protocol of a key, by number or mnemonic.
    KeyProtocol,
    /// The type of a digest, by number or mnemonic.
    DigestType,
    /// The rest in base64, which may be nothing.
    MaybeBase64,
    /// A string in quotes without a length of its own: it must stand in them.
    QuotedText,
    /// How a child's records reach its parent (RFC 9859).
    Scheme,
    /// A notation of its own.
    Special(Form),
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
        // PTR, DNAME; mail as it once was, and NSAP-PTR
        12 | 39 | 7 | 8 | 9 | 23 => &[Name],
        13 => &[Text, Text],                // HINFO
        14 | 17 | 58 => &[Name, Name],      // MINFO, RP (RFC 1183), TALINK
        18 | 36 | 21 | 107 => &[U16, Name], // AFSDB, KX, RT, LP (RFC 6742)
        19 => &[Digits],                    // X25
        20 => &[Text, MaybeText],           // ISDN (RFC 1183)
        56 | 258 | 261 | 262 => &[Texts],   // NINFO, AVC, RESINFO (RFC 9606), WALLET
        22 => &[Special(Form::Nsap)],
        25 => &[KeyFlags, KeyProtocol, Algorithm, MaybeBase64], // KEY
        26 => &[U16, Name, Name],                               // PX (RFC 2163)
        27 => &[Text, Text, Text],                              // GPOS (RFC 1712)
        31 | 32 => &[Hex],                                      // EID, NIMLOC
        40 => &[U8, U8, U8, MaybeBase64],                       // SINK
        42 => &[Special(Form::Prefixes)],
        45 => &[Special(Form::IpsecKey)],
        49 => &[Base64], // DHCID (RFC 4701)
        55 => &[Special(Form::HostIdentity)],
        57 => &[U16, U8, Algorithm, Base64],           // RKEY
        66 => &[Type, Scheme, U16, Name],              // DSYNC (RFC 9859)
        104 | 106 => &[U16, Special(Form::Locator64)], // NID, L64
        105 => &[U16, Special(Form::Locator32)],
        108 => &[Special(Form::Eui48)],
        109 => &[Special(Form::Eui64)],
        260 => &[Special(Form::Relay)],
        29 => &[Location],                                                             // LOC
        33 => &[U16, U16, U16, Name],                                                  // SRV (RFC 2782)
        35 => &[U16, U16, Text, Text, Rewriting, Name],                                // NAPTR (RFC 3403)
        37 => &[CertificateType, U16, Algorithm, Base64],                              // CERT (RFC 4398)
        43 | 59 | 32768 | 32769 => &[U16, Algorithm, DigestType, Hex], // DS, CDS (RFC 4034, 7344), TA, DLV
        44 => &[U8, U8, Hex],                                          // SSHFP (RFC 4255)
        24 | 46 => &[Type, Algorithm, U8, Seconds, Moment, Moment, U16, Name, Base64], // SIG, RRSIG (RFC 4034)
        47 => &[Name, Types],                                          // NSEC
        48 | 60 => &[KeyFlags, KeyProtocol, Algorithm, Base64],        // DNSKEY, CDNSKEY
        50 => &[U8, U8, U16, Salt, Hash, Types],                       // NSEC3 (RFC 5155)
        51 => &[U8, U8, U16, Salt],                                    // NSEC3PARAM
        52 | 53 => &[U8, U8, U8, Hex],                                 // TLSA, SMIMEA (RFC 6698, 8162)
        61 | 67 | 68 => &[Base64],                                     // OPENPGPKEY (RFC 7929), HHIT, BRID (RFC 9886)
        62 => &[U32, U16, Types],                                      // CSYNC (RFC 7477)
        63 => &[U32, U8, U8, Hex],                                     // ZONEMD (RFC 8976)
        64 | 65 => &[U16, Name, Parameters],                           // SVCB, HTTPS (RFC 9460)
        99 => &[Texts],                                                // SPF (RFC 7208, obsolete)
        256 => &[U16, U16, QuotedText],                                // URI (RFC 7553)
        257 => &[U8, Tag, LongText],                                   // CAA (RFC 8659)
        _ => return None,
    })
}

/// Types that stand in questions alone, and in data that names them (RFC 6895 section 3.1).
pub(super) const META: &[(u16, &str)] =
    &[(249, "TKEY"), (250, "TSIG"), (251, "IXFR"), (252, "AXFR"), (253, "MAILB"), (254, "MAILA"), (255, "ANY")];

/// The words for flags of keys; several are joined by `|` (RFC 2535 section 7.1, RFC 4034, RFC 5011).
pub(super) const KEY_FLAGS: &[(u32, &str)] = &[
    (0x4000, "NOCONF"),
    (0x8000, "NOAUTH"),
    (0xc000, "NOKEY"),
    (0x1000, "EXTEND"),
    (0x0000, "USER"),
    (0x0100, "ZONE"),
    (0x0200, "HOST"),
    (0x0300, "NTYP3"),
    (0x0080, "REVOKE"),
    (0x0001, "KSK"),
    (0x2000, "FLAG2"),
    (0x0800, "FLAG4"),
    (0x0400, "FLAG5"),
    (0x0080, "FLAG8"),
    (0x0040, "FLAG9"),
    (0x0020, "FLAG10"),
    (0x0010, "FLAG11"),
    (0x0000, "SIG0"),
    (0x0001, "SIG1"),
    (0x0002, "SIG2"),
    (0x0003, "SIG3"),
    (0x0004, "SIG4"),
    (0x0005, "SIG5"),
    (0x0006, "SIG6"),
    (0x0007, "SIG7"),
    (0x0008, "SIG8"),
    (0x0009, "SIG9"),
    (0x000a, "SIG10"),
    (0x000b, "SIG11"),
    (0x000c, "SIG12"),
    (0x000d, "SIG13"),
    (0x000e, "SIG14"),
    (0x000f, "SIG15"),
];

pub(super) const KEY_PROTOCOLS: &[(u32, &str)] =
    &[(0, "NONE"), (1, "TLS"), (2, "EMAIL"), (3, "DNSSEC"), (4, "IPSEC"), (255, "ALL")];

pub(super) const DIGEST_TYPES: &[(u32, &str)] =
    &[(1, "SHA-1"), (1, "SHA1"), (2, "SHA-256"), (2, "SHA256"), (3, "GOST"), (4, "SHA-384"), (4, "SHA384")];

/// RFC 9859 section 2.2.
pub(super) const SCHEMES: &[(u32, &str)] = &[(1, "NOTIFY")];

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

/// The mnemonic of a DNSSEC algorithm, or its number.
pub fn algorithm_word(number: u8) -> String {
    let known = ALGORITHMS.iter().find(|(known, _)| *known == u32::from(number));
    known.map_or_else(|| format!("algorithm {number}"), |(_, word)| (*word).to_string())
}

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

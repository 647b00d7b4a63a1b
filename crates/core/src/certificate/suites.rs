//! Cipher suites of TLS 1.2 and older by families: what they share, and what is to be said of them. Which suites there are
//! comes from IANA's registry, as `tls-parser` has it; who takes which is asked by `io/src/probe/served.rs`.

use serde::Serialize;
use tls_parser::{CIPHERS, TlsCipherAu as Au, TlsCipherEnc as Enc, TlsCipherKx as Kx, TlsCipherMac, TlsCipherSuite};

/// What suites have in common, the best first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum SuiteFamily {
    /// Forward secrecy and authenticated encryption (RFC 9325 section 4.2).
    Authenticated,
    /// Forward secrecy, encryption in CBC mode.
    BlockChaining,
    /// The secret is sent under the server's RSA key: whoever gets that key reads all that was ever recorded.
    KeyTransport,
    /// The secret follows from a Diffie-Hellman key in the certificate: no forward secrecy either.
    StaticDiffieHellman,
    TripleDes,
    Rc4,
    /// DES and RC2.
    Des,
    /// Keys that were weak on purpose.
    Export,
    NoAuthentication,
    NoEncryption,
}

impl SuiteFamily {
    pub const ALL: [SuiteFamily; 10] = [
        SuiteFamily::Authenticated,
        SuiteFamily::BlockChaining,
        SuiteFamily::KeyTransport,
        SuiteFamily::StaticDiffieHellman,
        SuiteFamily::TripleDes,
        SuiteFamily::Rc4,
        SuiteFamily::Des,
        SuiteFamily::Export,
        SuiteFamily::NoAuthentication,
        SuiteFamily::NoEncryption,
    ];

    /// The family of a suite by its number; `None` where a secret would have to be shared before, where the key is one of
    /// DSA, and for TLS 1.3, whose suites are all as they should be.
    pub fn of(number: u16) -> Option<SuiteFamily> {
        TlsCipherSuite::from_id(number).and_then(family)
    }

    /// Broken, or weak on purpose (RFC 7465, RFC 8429, RFC 9325 section 4.1).
    pub fn is_weak(self) -> bool {
        self >= SuiteFamily::TripleDes
    }

    /// Whether many servers still take some of it.
    pub fn is_usual(self) -> bool {
        self <= SuiteFamily::KeyTransport
    }

    pub fn words(self) -> &'static str {
        match self {
            SuiteFamily::Authenticated => "forward secrecy and authenticated encryption",
            SuiteFamily::BlockChaining => "CBC mode",
            SuiteFamily::KeyTransport => "RSA key transport",
            SuiteFamily::StaticDiffieHellman => "static Diffie-Hellman",
            SuiteFamily::TripleDes => "triple DES",
            SuiteFamily::Rc4 => "RC4",
            SuiteFamily::Des => "DES",
            SuiteFamily::Export => "export keys",
            SuiteFamily::NoAuthentication => "no authentication",
            SuiteFamily::NoEncryption => "no encryption",
        }
    }
}

fn family(suite: &TlsCipherSuite) -> Option<SuiteFamily> {
    let kept_out = matches!(suite.au, Au::Psk | Au::Krb5 | Au::Srp | Au::Srp_Dss | Au::Srp_Rsa | Au::Dss | Au::Dhe)
        || matches!(suite.kx, Kx::Null | Kx::Psk | Kx::Krb5 | Kx::Srp | Kx::Eccpwd | Kx::Tls13);
    if kept_out {
        return None;
    }
    Some(match (suite.enc, suite.kx) {
        (Enc::Null, _) => SuiteFamily::NoEncryption,
        _ if suite.au == Au::Null || suite.kx == Kx::Aecdh => SuiteFamily::NoAuthentication,
        _ if suite.name.contains("EXPORT") => SuiteFamily::Export,
        (Enc::Des | Enc::Rc2, _) => SuiteFamily::Des,
        (Enc::Rc4, _) => SuiteFamily::Rc4,
        (Enc::TripleDes, _) => SuiteFamily::TripleDes,
        (_, Kx::Rsa) => SuiteFamily::KeyTransport,
        (_, Kx::Dh | Kx::Ecdh) => SuiteFamily::StaticDiffieHellman,
        _ if suite.mac == TlsCipherMac::Aead => SuiteFamily::Authenticated,
        _ => SuiteFamily::BlockChaining,
    })
}

/// Whether browsers of today agree on a suite, though they may like others better: ECDHE, or RSA key transport, with AES or
/// ChaCha20. They have no Diffie-Hellman without curves any more.
pub fn taken_by_browsers(number: u16) -> bool {
    let usual = SuiteFamily::of(number).is_some_and(SuiteFamily::is_usual);
    usual
        && TlsCipherSuite::from_id(number)
            .is_some_and(|suite| suite.kx != Kx::Dhe && matches!(suite.enc, Enc::Aes | Enc::Chacha20_Poly1305))
}

/// Who signs, or takes the secret: the kind of key in the certificate.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SuiteKey {
    Any,
    Rsa,
    Ecdsa,
}

/// The numbers of all suites of these families that go with such a key, those of the best family first.
pub fn suites(families: &[SuiteFamily], key: SuiteKey) -> Vec<u16> {
    let fits = |suite: &TlsCipherSuite| match key {
        SuiteKey::Any => true,
        SuiteKey::Rsa => suite.au == Au::Rsa,
        SuiteKey::Ecdsa => suite.au == Au::Ecdsa,
    };
    let mut found: Vec<(SuiteFamily, u16)> = CIPHERS
        .values()
        .filter(|suite| fits(suite))
        .filter_map(|suite| Some((family(suite)?, suite.id.0)))
        .filter(|(family, _)| families.contains(family))
        .collect();
    found.sort_unstable();
    found.into_iter().map(|(_, number)| number).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn suites_are_known_by_their_numbers() {
        let known = [
            (0xc02f, Some(SuiteFamily::Authenticated)),
            (0xcca9, Some(SuiteFamily::Authenticated)),
            (0x009e, Some(SuiteFamily::Authenticated)),
            (0xc013, Some(SuiteFamily::BlockChaining)),
            (0x0033, Some(SuiteFamily::BlockChaining)),
            (0x009c, Some(SuiteFamily::KeyTransport)),
            (0x002f, Some(SuiteFamily::KeyTransport)),
            (0xc004, Some(SuiteFamily::StaticDiffieHellman)),
            (0x0031, Some(SuiteFamily::StaticDiffieHellman)),
            (0x000a, Some(SuiteFamily::TripleDes)),
            (0xc012, Some(SuiteFamily::TripleDes)),
            (0x0005, Some(SuiteFamily::Rc4)),
            (0xc011, Some(SuiteFamily::Rc4)),
            (0x0009, Some(SuiteFamily::Des)),
            (0x0003, Some(SuiteFamily::Export)),
            (0x0006, Some(SuiteFamily::Export)),
            (0x0034, Some(SuiteFamily::NoAuthentication)),
            (0xc018, Some(SuiteFamily::NoAuthentication)),
            (0x0002, Some(SuiteFamily::NoEncryption)),
            (0xc010, Some(SuiteFamily::NoEncryption)),
            // Of TLS 1.3, with a shared secret, of DSA keys, a signal, no suite at all.
            (0x1301, None),
            (0x008c, None),
            (0x0013, None),
            (0x00ff, None),
            (0x0000, None),
            (0xfafa, None),
        ];
        for (number, family) in known {
            assert_eq!(SuiteFamily::of(number), family, "{number:#06x}");
        }
    }

    #[test]
    fn what_is_offered_is_of_the_family_and_the_key_alone() {
        for family in SuiteFamily::ALL {
            let all = suites(&[family], SuiteKey::Any);
            assert!(all.iter().all(|number| SuiteFamily::of(*number) == Some(family)), "{family:?}");
            assert!(all.len() > 2 && all.len() < 60, "{family:?}: {}", all.len());
        }
        let (rsa, ecdsa) = (suites(&SuiteFamily::ALL, SuiteKey::Rsa), suites(&SuiteFamily::ALL, SuiteKey::Ecdsa));
        assert!(rsa.contains(&0xc02f) && rsa.contains(&0x002f) && !rsa.contains(&0xc02b));
        assert!(ecdsa.contains(&0xc02b) && !ecdsa.contains(&0xc02f) && !ecdsa.contains(&0x002f));
        let mixed = suites(&[SuiteFamily::KeyTransport, SuiteFamily::Authenticated], SuiteKey::Any);
        assert_eq!(SuiteFamily::of(mixed[0]), Some(SuiteFamily::Authenticated));
        assert_eq!(SuiteFamily::of(mixed[mixed.len() - 1]), Some(SuiteFamily::KeyTransport));
    }

    #[test]
    fn weak_ones_and_usual_ones() {
        let weak: Vec<bool> = SuiteFamily::ALL.map(SuiteFamily::is_weak).to_vec();
        assert_eq!(weak, [false, false, false, false, true, true, true, true, true, true]);
        let usual: Vec<bool> = SuiteFamily::ALL.map(SuiteFamily::is_usual).to_vec();
        assert_eq!(usual, [true, true, true, false, false, false, false, false, false, false]);
        for (number, taken) in [(0xc013, true), (0x002f, true), (0xcca8, true), (0xc030, true)] {
            assert_eq!(taken_by_browsers(number), taken, "{number:#06x}");
        }
        // Without curves, Camellia, triple DES, TLS 1.3's own.
        for number in [0x0033, 0x009e, 0x0041, 0x000a, 0x1301] {
            assert!(!taken_by_browsers(number), "{number:#06x}");
        }
    }
}

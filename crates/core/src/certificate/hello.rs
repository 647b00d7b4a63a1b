//! The first message of TLS, made by hand: a TLS library of today cannot offer what must no longer be spoken. And just
//! enough of the answer to see whether a server takes it (RFC 5246 section 7.4.1, RFC 6101 for SSL 3.0). Which suites there
//! are is in `suites.rs`, the rest of an answer is read in `flight.rs`.

use serde::Serialize;

/// A version of the protocol.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
pub enum TlsVersion {
    #[serde(rename = "SSL 3.0")]
    Ssl30,
    #[serde(rename = "TLS 1.0")]
    Tls10,
    #[serde(rename = "TLS 1.1")]
    Tls11,
    #[serde(rename = "TLS 1.2")]
    Tls12,
    #[serde(rename = "TLS 1.3")]
    Tls13,
}

impl TlsVersion {
    pub const OLD: [TlsVersion; 3] = [TlsVersion::Ssl30, TlsVersion::Tls10, TlsVersion::Tls11];

    pub fn words(self) -> &'static str {
        match self {
            TlsVersion::Ssl30 => "SSL 3.0",
            TlsVersion::Tls10 => "TLS 1.0",
            TlsVersion::Tls11 => "TLS 1.1",
            TlsVersion::Tls12 => "TLS 1.2",
            TlsVersion::Tls13 => "TLS 1.3",
        }
    }

    /// The second byte of its number on the wire.
    pub fn minor(self) -> u8 {
        self as u8
    }
}

/// What every server of its time knew.
pub const USUAL: &[u16] =
    &[0xc009, 0xc00a, 0xc013, 0xc014, 0xc02b, 0xc02f, 0x0033, 0x0039, 0x002f, 0x0035, 0xc012, 0x000a, 0x0005, 0x0004];

/// The record to send: a greeting that offers one version up to TLS 1.2 and these ciphers.
pub fn client_hello(version: TlsVersion, ciphers: &[u16], host: &str, random: [u8; 32]) -> Vec<u8> {
    let minor = version.minor().min(TlsVersion::Tls12.minor());
    let mut body = vec![3, minor];
    body.extend(random);
    body.push(0);
    body.extend((ciphers.len() as u16 * 2).to_be_bytes());
    ciphers.iter().for_each(|cipher| body.extend(cipher.to_be_bytes()));
    body.extend([1, 0]);
    if version > TlsVersion::Ssl30 {
        let extensions = extensions(host);
        body.extend((extensions.len() as u16).to_be_bytes());
        body.extend(extensions);
    }
    let mut message = vec![1, 0];
    message.extend((body.len() as u16).to_be_bytes());
    message.extend(body);
    // The record itself says 3.1 for whoever is older than its content (RFC 5246 appendix E.1).
    let mut record = vec![22, 3, minor.min(1)];
    record.extend((message.len() as u16).to_be_bytes());
    record.extend(message);
    record
}

fn extensions(host: &str) -> Vec<u8> {
    let mut all = Vec::new();
    let mut add = |kind: u16, data: &[u8]| {
        all.extend(kind.to_be_bytes());
        all.extend((data.len() as u16).to_be_bytes());
        all.extend(data);
    };
    // An address is never sent as a name (RFC 6066 section 3).
    if host.parse::<std::net::IpAddr>().is_err() && !host.is_empty() && host.len() < 254 {
        let length = host.len() as u16;
        let mut name = (length + 3).to_be_bytes().to_vec();
        name.push(0);
        name.extend(length.to_be_bytes());
        name.extend(host.as_bytes());
        add(0, &name);
    }
    // An answer about revocation is welcome (RFC 6066 section 8).
    add(5, &[1, 0, 0, 0, 0]);
    // Curves P-256, P-384, P-521, X25519; uncompressed points; signatures of every kind, old ones too.
    add(10, &[0, 8, 0, 23, 0, 24, 0, 25, 0, 29]);
    add(11, &[1, 0]);
    add(13, &[0, 18, 4, 3, 5, 3, 6, 3, 8, 4, 8, 5, 4, 1, 5, 1, 6, 1, 2, 1]);
    all
}

/// What a server answered.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Greeting {
    /// It continues with this version and cipher.
    Accepted { minor: u8, cipher: u16 },
    /// It refuses with an alert.
    Refused,
    /// More bytes are needed to tell.
    Incomplete,
    /// It is no TLS.
    Other,
}

/// Reads the beginning of an answer.
pub fn greeting(bytes: &[u8]) -> Greeting {
    let Some(kind) = bytes.first() else { return Greeting::Incomplete };
    match kind {
        21 => Greeting::Refused,
        22 if bytes.len() < 5 + 4 + 2 + 32 + 1 => Greeting::Incomplete,
        22 if bytes[1] == 3 && bytes[5] == 2 && bytes[9] == 3 => {
            let session = usize::from(bytes[43]);
            match bytes.get(44 + session..46 + session) {
                Some(cipher) if session <= 32 => {
                    Greeting::Accepted { minor: bytes[10], cipher: u16::from_be_bytes([cipher[0], cipher[1]]) }
                }
                Some(_) => Greeting::Other,
                None => Greeting::Incomplete,
            }
        }
        _ => Greeting::Other,
    }
}

/// Whether a greeting took the offered version.
pub fn accepts(answer: Greeting, version: TlsVersion) -> bool {
    matches!(answer, Greeting::Accepted { minor, .. } if minor == version.minor())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn lengths_fit_and_the_name_is_asked_for() {
        let hello = client_hello(TlsVersion::Tls10, USUAL, "gullrock.example", [7; 32]);
        let record = usize::from(u16::from_be_bytes([hello[3], hello[4]]));
        let message = usize::from(u16::from_be_bytes([hello[7], hello[8]]));
        assert_eq!((record, message), (hello.len() - 5, hello.len() - 9));
        assert_eq!((hello[9], hello[10]), (3, 1));
        assert!(hello.windows(16).any(|part| part == b"gullrock.example"));
        let oldest = client_hello(TlsVersion::Ssl30, USUAL, "gullrock.example", [7; 32]);
        assert!(!oldest.windows(16).any(|part| part == b"gullrock.example"), "SSL 3.0 has no extensions");
    }

    #[test]
    fn answers() {
        let mut hello = vec![22, 3, 1, 0, 42, 2, 0, 0, 38, 3, 1];
        hello.extend([0; 32]);
        hello.extend([0, 0xc0, 0x13, 0]);
        assert_eq!(greeting(&hello), Greeting::Accepted { minor: 1, cipher: 0xc013 });
        assert!(accepts(greeting(&hello), TlsVersion::Tls10) && !accepts(greeting(&hello), TlsVersion::Tls11));
        assert_eq!(greeting(&hello[..44]), Greeting::Incomplete);
        assert_eq!(
            (greeting(&[21, 3, 1]), greeting(b"HTTP/1.1 400"), greeting(&[])),
            (Greeting::Refused, Greeting::Other, Greeting::Incomplete)
        );
    }

    proptest! {
        #[test]
        fn any_answer_is_read_without_a_panic(bytes in prop::collection::vec(any::<u8>(), 0..120)) {
            let _ = greeting(&bytes);
            let _ = greeting(&[&[22, 3, 1, 0, 90, 2, 0, 0, 86, 3][..], &bytes].concat());
        }
    }
}

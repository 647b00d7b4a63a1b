//! Protocols that begin in the clear and change to TLS when they are asked to: what is said before the handshake.
//!
//! Pure: what came in goes in, what is to be sent comes out. `brightharbor-io` holds the connection.

use serde::Serialize;

/// A protocol with a word for it (RFC 3207, RFC 9051 section 6.2.1, RFC 2595 section 4, RFC 4217, RFC 4511 section 4.14;
/// the message flow of PostgreSQL).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum StartTls {
    Smtp,
    Imap,
    Pop3,
    Ftp,
    Ldap,
    Postgres,
}

/// What comes next.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Next {
    /// More has to come in.
    Wait,
    /// This is sent, and then more comes in.
    Send(&'static [u8]),
    /// The handshake begins.
    Handshake,
    /// The server does not change to TLS: its words.
    Refused(String),
}

/// `LDAPMessage { messageID 1, ExtendedRequest { 1.3.6.1.4.1.1466.20037 } }` (RFC 4511 section 4.14.1).
const LDAP_REQUEST: &[u8] = b"\x30\x1d\x02\x01\x01\x77\x18\x80\x161.3.6.1.4.1.1466.20037";
const POSTGRES_REQUEST: &[u8] = &[0, 0, 0, 8, 4, 210, 22, 47];

impl StartTls {
    pub const ALL: [StartTls; 6] = [Self::Smtp, Self::Imap, Self::Pop3, Self::Ftp, Self::Ldap, Self::Postgres];

    pub fn word(self) -> &'static str {
        match self {
            StartTls::Smtp => "smtp",
            StartTls::Imap => "imap",
            StartTls::Pop3 => "pop3",
            StartTls::Ftp => "ftp",
            StartTls::Ldap => "ldap",
            StartTls::Postgres => "postgres",
        }
    }

    /// What is usual at a port (IANA's registry of services); `None` where TLS begins at once, or nothing is known.
    pub fn usual_at(port: u16) -> Option<Self> {
        Some(match port {
            25 | 587 => StartTls::Smtp,
            143 => StartTls::Imap,
            110 => StartTls::Pop3,
            21 => StartTls::Ftp,
            389 => StartTls::Ldap,
            5432 => StartTls::Postgres,
            _ => return None,
        })
    }

    /// What comes next, after so many messages were sent, when this has come in since the last one.
    pub fn next(self, sent: usize, heard: &[u8]) -> Next {
        match (self, sent) {
            (StartTls::Smtp, 0) => self.lines(sent, heard, b"EHLO visitor.invalid\r\n"),
            (StartTls::Smtp, 1) => self.lines(sent, heard, b"STARTTLS\r\n"),
            (StartTls::Imap, 0) => self.lines(sent, heard, b"a STARTTLS\r\n"),
            (StartTls::Pop3, 0) => self.lines(sent, heard, b"STLS\r\n"),
            (StartTls::Ftp, 0) => self.lines(sent, heard, b"AUTH TLS\r\n"),
            (StartTls::Ldap, 0) => Next::Send(LDAP_REQUEST),
            (StartTls::Ldap, _) => extended_answer(heard),
            (StartTls::Postgres, 0) => Next::Send(POSTGRES_REQUEST),
            (StartTls::Postgres, _) => match heard {
                [] => Next::Wait,
                [b'S'] => Next::Handshake,
                [b'N'] => Next::Refused("it answers that it has no TLS".into()),
                _ => Next::Refused(shown(heard)),
            },
            _ => self.lines(sent, heard, b""),
        }
    }

    /// Reads a whole answer in lines; `then` is sent after it, or the handshake begins.
    fn lines(self, sent: usize, heard: &[u8], then: &'static [u8]) -> Next {
        let Some(last) = self.last_line(sent, heard) else { return Next::Wait };
        let good: &[&[u8]] = match self {
            StartTls::Smtp => &[b"220", b"250"],
            StartTls::Imap => &[b"* ok", b"a ok"],
            StartTls::Pop3 => &[b"+ok"],
            StartTls::Ftp => &[b"220", b"234"],
            StartTls::Ldap | StartTls::Postgres => &[],
        };
        let line = heard[last..].to_ascii_lowercase();
        if !good.iter().any(|word| line.starts_with(word)) {
            return Next::Refused(shown(&heard[last..]));
        }
        if then.is_empty() { Next::Handshake } else { Next::Send(then) }
    }

    /// Where the line begins that ends an answer, once it is there whole.
    fn last_line(self, sent: usize, heard: &[u8]) -> Option<usize> {
        let whole = heard.strip_suffix(b"\n")?;
        let start = whole.iter().rposition(|byte| *byte == b'\n').map_or(0, |at| at + 1);
        let line = &heard[start..];
        let ends = match self {
            // `250-more` goes on, `250 end` and a bare `250` end (RFC 5321 section 4.2.1, RFC 959 section 4.2).
            StartTls::Smtp | StartTls::Ftp => {
                let code = line.get(..3).filter(|code| code.iter().all(u8::is_ascii_digit));
                code.is_some() && line.get(3) != Some(&b'-')
            }
            // Untagged lines may come before the tagged one; the greeting is one alone.
            StartTls::Imap => sent == 0 || line.to_ascii_lowercase().starts_with(b"a "),
            _ => true,
        };
        ends.then_some(start)
    }
}

/// The answer to an extended request, whose first member is the result (RFC 4511 section 4.12).
fn extended_answer(heard: &[u8]) -> Next {
    let [0x30, length, rest @ ..] = heard else {
        return if heard.is_empty() || heard == [0x30] { Next::Wait } else { Next::Refused(shown(heard)) };
    };
    if *length < 0x80 && rest.len() < usize::from(*length) {
        return Next::Wait;
    }
    // messageID 1, [APPLICATION 24], resultCode.
    match rest {
        [2, 1, 1, 0x78, _, 0x0a, 1, 0, ..] => Next::Handshake,
        [2, 1, 1, 0x78, _, 0x0a, 1, code, ..] => Next::Refused(format!("it answers with the result {code}")),
        _ => Next::Refused(shown(heard)),
    }
}

/// What a server said, bounded and harmless.
fn shown(heard: &[u8]) -> String {
    let text = String::from_utf8_lossy(heard);
    let line: String = text.trim().chars().take(100).flat_map(char::escape_debug).collect();
    format!("it answers `{line}`")
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Everything that a server says, in turn, and what comes of it.
    fn talk(protocol: StartTls, says: &[&[u8]]) -> (Vec<&'static [u8]>, Next) {
        let (mut sent, mut says) = (Vec::new(), says.iter());
        let mut heard: Vec<u8> = Vec::new();
        loop {
            match protocol.next(sent.len(), &heard) {
                Next::Send(message) => {
                    sent.push(message);
                    heard.clear();
                }
                Next::Wait => match says.next() {
                    Some(more) => heard.extend_from_slice(more),
                    None => return (sent, Next::Wait),
                },
                end => return (sent, end),
            }
        }
    }

    #[test]
    fn each_protocol_comes_to_its_handshake() {
        let ldap_answer: &[u8] = &[0x30, 0x0c, 2, 1, 1, 0x78, 7, 0x0a, 1, 0, 4, 0, 4, 0];
        let good: [(StartTls, &[&[u8]], usize); 7] = [
            (
                StartTls::Smtp,
                &[b"220-wel", b"come\r\n220 quay ESMTP\r\n", b"250-quay\r\n250 STARTTLS\r\n", b"220 go\r\n"],
                2,
            ),
            (StartTls::Imap, &[b"* OK [CAPABILITY IMAP4rev1] ready\r\n", b"* CAPABILITY\r\n", b"a OK begin\r\n"], 1),
            (StartTls::Pop3, &[b"+OK quay\r\n", b"+OK\r\n"], 1),
            (StartTls::Ftp, &[b"220-a\r\n", b"220 b\r\n", b"234 AUTH TLS\r\n"], 1),
            (StartTls::Ldap, &[&ldap_answer[..1], &ldap_answer[1..5], &ldap_answer[5..]], 1),
            (StartTls::Postgres, &[b"S"], 1),
            (StartTls::Smtp, &[b"220\r\n", b"250\n", b"220 go\n"], 2),
        ];
        for (protocol, says, messages) in good {
            let (sent, end) = talk(protocol, says);
            assert_eq!((sent.len(), end), (messages, Next::Handshake), "{protocol:?}");
            // Each word of it is needed.
            let (_, early) = talk(protocol, &says[..says.len() - 1]);
            assert_eq!(early, Next::Wait, "{protocol:?}");
        }
    }

    #[test]
    fn a_server_that_will_not_is_quoted() {
        let refused: [(StartTls, &[&[u8]], &str); 8] = [
            (StartTls::Smtp, &[b"554 no\r\n"], "it answers `554 no`"),
            (StartTls::Smtp, &[b"220 a\r\n", b"250 a\r\n", b"502 what\x1b?\r\n"], "it answers `502 what\\u{1b}?`"),
            (StartTls::Imap, &[b"* BYE busy\r\n"], "it answers `* BYE busy`"),
            (StartTls::Imap, &[b"* OK\r\n", b"a BAD no\r\n"], "it answers `a BAD no`"),
            (StartTls::Pop3, &[b"+OK\r\n", b"-ERR\r\n"], "it answers `-ERR`"),
            (StartTls::Ftp, &[b"220 a\r\n", b"530 no\r\n"], "it answers `530 no`"),
            (
                StartTls::Ldap,
                &[&[0x30, 0x0c, 2, 1, 1, 0x78, 7, 0x0a, 1, 52, 4, 0, 4, 0]],
                "it answers with the result 52",
            ),
            (StartTls::Postgres, &[b"N"], "it answers that it has no TLS"),
        ];
        for (protocol, says, words) in refused {
            assert_eq!(talk(protocol, says).1, Next::Refused(words.into()), "{protocol:?}");
        }
        for noise in [&b"\xff\xfe\n"[..], b"S!", b"HTTP/1.1 400 Bad Request\r\n\r\n"] {
            for protocol in StartTls::ALL {
                let (_, end) = talk(protocol, &[noise, noise, noise]);
                assert!(end != Next::Handshake, "{protocol:?} {noise:?}");
            }
        }
    }

    #[test]
    fn ports_have_their_usual_protocols() {
        let all: Vec<_> = [25, 587, 143, 110, 21, 389, 5432, 443, 465, 993].map(StartTls::usual_at).to_vec();
        let words: Vec<_> = all.into_iter().map(|one| one.map_or("", StartTls::word)).collect();
        assert_eq!(words, ["smtp", "smtp", "imap", "pop3", "ftp", "ldap", "postgres", "", "", ""]);
    }
}

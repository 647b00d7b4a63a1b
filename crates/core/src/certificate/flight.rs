//! What a server shows in the clear when it answers a greeting with TLS 1.2 or older: the version and cipher suite that it
//! chose, its chain, and an answer about revocation (RFC 5246 section 7.4, RFC 6066 section 8). With it, the certificate of
//! a server that speaks nothing a library of today speaks is seen all the same. The greeting is made in `hello.rs`.

use tls_parser::{TlsMessage, TlsMessageHandshake as Message, TlsRecordType, parse_tls_raw_record};

/// What has been shown.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Flight {
    /// The minor number of the version: 3 is TLS 1.2.
    pub minor: u8,
    pub cipher: u16,
    /// DER, the leaf first.
    pub chain: Vec<Vec<u8>>,
    /// The answer about revocation that came along, DER.
    pub staple: Option<Vec<u8>>,
    pub asks_for_client: bool,
}

/// How far an answer has come.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum FlightRead {
    /// More bytes are needed.
    Incomplete,
    /// The server has said all that comes before the client's turn.
    Done(Flight),
    /// It refuses with an alert, it is no TLS, or what comes is damaged.
    Nothing,
}

/// Reads what has come so far. Messages may be cut anywhere into records (RFC 5246 section 6.2.1).
pub fn read_flight(bytes: &[u8]) -> FlightRead {
    let (mut rest, mut messages) = (bytes, Vec::new());
    while !rest.is_empty() {
        let record = match parse_tls_raw_record(rest) {
            Ok((after, record)) => {
                rest = after;
                record
            }
            Err(error) if error.is_incomplete() => break,
            Err(_) => return FlightRead::Nothing,
        };
        match record.hdr.record_type {
            TlsRecordType::Handshake => messages.extend_from_slice(record.data),
            _ => return FlightRead::Nothing,
        }
    }
    if rest.first().is_some_and(|kind| *kind != TlsRecordType::Handshake.0) {
        return FlightRead::Nothing;
    }
    read_messages(&messages)
}

fn read_messages(messages: &[u8]) -> FlightRead {
    let (mut rest, mut flight) = (messages, Flight::default());
    while let Some(message) = whole_message(rest) {
        rest = &rest[message.len()..];
        // Of the key exchange nothing is needed, and its form depends on the suite.
        let Ok((_, TlsMessage::Handshake(message))) = tls_parser::parse_tls_message_handshake(message) else {
            return FlightRead::Nothing;
        };
        match message {
            Message::ServerHello(hello) => (flight.minor, flight.cipher) = (hello.version.0 as u8, hello.cipher.0),
            Message::Certificate(shown) => {
                flight.chain = shown.cert_chain.iter().map(|certificate| certificate.data.to_vec()).collect();
            }
            Message::CertificateStatus(status) => flight.staple = Some(status.blob.to_vec()),
            Message::CertificateRequest(_) => flight.asks_for_client = true,
            Message::ServerDone(_) => return FlightRead::Done(flight),
            Message::ServerKeyExchange(_) => {}
            _ => return FlightRead::Nothing,
        }
    }
    FlightRead::Incomplete
}

/// The first message with its head, if all of it is there.
fn whole_message(bytes: &[u8]) -> Option<&[u8]> {
    let head = bytes.get(..4)?;
    let length = u32::from_be_bytes([0, head[1], head[2], head[3]]) as usize;
    bytes.get(..4 + length)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn message(kind: u8, body: &[u8]) -> Vec<u8> {
        let length = (body.len() as u32).to_be_bytes();
        [&[kind, length[1], length[2], length[3]], body].concat()
    }

    fn record(part: &[u8]) -> Vec<u8> {
        [&[22, 3, 3, (part.len() >> 8) as u8, part.len() as u8], part].concat()
    }

    /// A hello with the suite 0x002f, two certificates, an answer about revocation, a key, a request, the end.
    fn messages() -> Vec<u8> {
        let mut hello = vec![3, 3];
        hello.extend([7; 32]);
        hello.extend([0, 0, 0x2f, 0]);
        let certificates = [0, 0, 9, 0, 0, 2, b'l', b'f', 0, 0, 1, b'i'];
        let staple = [1, 0, 0, 2, 0x30, 0];
        let request = [1, 1, 0, 2, 4, 1, 0, 0];
        [
            message(2, &hello),
            message(11, &certificates),
            message(22, &staple),
            message(12, &[3, 0, 23, 1, 4]),
            message(13, &request),
            message(14, &[]),
        ]
        .concat()
    }

    fn expected() -> FlightRead {
        FlightRead::Done(Flight {
            minor: 3,
            cipher: 0x2f,
            chain: vec![b"lf".to_vec(), b"i".to_vec()],
            staple: Some(vec![0x30, 0]),
            asks_for_client: true,
        })
    }

    #[test]
    fn a_flight_is_read_however_it_is_cut_into_records() {
        let messages = messages();
        for size in [1, 3, 7, 50, messages.len()] {
            let bytes: Vec<u8> = messages.chunks(size).flat_map(record).collect();
            assert_eq!(read_flight(&bytes), expected(), "{size}");
            for end in 0..bytes.len() {
                assert_eq!(read_flight(&bytes[..end]), FlightRead::Incomplete, "{size} {end}");
            }
        }
    }

    #[test]
    fn a_certificate_of_any_length_is_read() {
        for size in [300, 70_000] {
            let of = |length: usize| (length as u32).to_be_bytes()[1..].to_vec();
            let certificates = [of(size + 3), of(size), vec![7; size]].concat();
            let messages = [message(11, &certificates), message(14, &[])].concat();
            let bytes: Vec<u8> = messages.chunks(16_000).flat_map(record).collect();
            let FlightRead::Done(flight) = read_flight(&bytes) else { panic!("{size}") };
            assert_eq!((flight.chain.len(), flight.chain[0].len()), (1, size));
        }
    }

    #[test]
    fn an_alert_or_another_protocol_shows_nothing() {
        assert_eq!(read_flight(&[21, 3, 3, 0, 2, 2, 40]), FlightRead::Nothing);
        assert_eq!(read_flight(b"HTTP/1.1 400 Bad Request"), FlightRead::Nothing);
        let refused = [record(&message(2, &[3; 38])), vec![21, 3, 3, 0, 2, 2, 40]].concat();
        assert_eq!(read_flight(&refused), FlightRead::Nothing);
        assert_eq!(read_flight(&record(&message(20, &[0; 12]))), FlightRead::Nothing, "the end of a handshake");
        assert_eq!(read_flight(&[22, 3, 3, 0xff, 0xff, 2]), FlightRead::Nothing, "no record is as long as that");
    }

    proptest! {
        #[test]
        fn any_answer_is_read_without_a_panic(bytes in prop::collection::vec(any::<u8>(), 0..200), at in 0usize..180) {
            let _ = read_flight(&bytes);
            let _ = read_messages(&bytes);
            let mut spoilt = record(&messages());
            if let Some(byte) = spoilt.get_mut(at) {
                *byte ^= bytes.first().copied().unwrap_or(1);
            }
            let _ = read_flight(&spoilt);
        }
    }
}

//! The client against servers that misbehave on purpose, each on a loopback port of its own.

use std::net::UdpSocket;
use std::time::{Duration, Instant};

use brightharbor_core::name::DnsName;
use brightharbor_core::zone::{RecordData, RecordType};
use domain::base::iana::Rcode;
use domain::base::{Message, MessageBuilder, Ttl};
use domain::rdata::A;

use super::*;

/// A server that answers each datagram with what `answer` makes of it; none, one or several datagrams.
fn server(answer: impl Fn(&[u8]) -> Vec<Vec<u8>> + Send + 'static) -> SocketAddr {
    let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
    let address = socket.local_addr().unwrap();
    std::thread::spawn(move || {
        let mut buffer = [0; 2048];
        while let Ok((length, from)) = socket.recv_from(&mut buffer) {
            for datagram in answer(&buffer[..length]) {
                let _ = socket.send_to(&datagram, from);
            }
        }
    });
    address
}

fn good_answer(query: &[u8]) -> Vec<u8> {
    let request = Message::from_octets(query).unwrap();
    let question = request.sole_question().unwrap();
    let mut answer = MessageBuilder::new_vec().start_answer(&request, Rcode::NOERROR).unwrap();
    answer.push((question.qname(), Ttl::from_secs(60), A::from_octets(192, 0, 2, 1))).unwrap();
    answer.finish()
}

fn asked(server: SocketAddr) -> (Outcome, Duration) {
    let question = Question::authoritative(server, &DnsName::absolute("gullrock.example").unwrap(), RecordType::A);
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    let started = Instant::now();
    let observation = runtime.block_on(ask(&question));
    (observation.outcome, started.elapsed())
}

fn is_good(outcome: &Outcome) -> bool {
    let data = RecordData::A("192.0.2.1".parse().unwrap());
    matches!(outcome, Outcome::Reply(reply) if reply.answer.len() == 1 && reply.answer[0].data == data)
}

#[test]
fn forged_and_stray_datagrams_before_the_answer_are_passed_over() {
    let address = server(|query| {
        let mut other_id = good_answer(query);
        other_id[0] ^= 0xff;
        let mut other_name = good_answer(query);
        other_name[13] = b'x';
        vec![other_id, other_name, query.to_vec(), good_answer(query)]
    });
    assert!(is_good(&asked(address).0));
}

#[test]
fn what_is_no_answer_is_told_at_once() {
    let address = server(|query| {
        let mut cut = good_answer(query);
        cut.truncate(cut.len() - 3);
        vec![cut]
    });
    let (outcome, took) = asked(address);
    assert!(matches!(outcome, Outcome::Garbled(_)) && took < Duration::from_secs(2), "{outcome:?}");
}

#[test]
fn names_that_point_in_circles_do_not_hang_it() {
    let address = server(|query| {
        let mut looped = good_answer(query);
        // The owner of the answer record points to itself.
        let at = query.len() - 11;
        looped.truncate(at);
        looped.extend([0xc0, at as u8, 0, 1, 0, 1, 0, 0, 0, 60, 0, 4, 192, 0, 2, 1]);
        vec![looped]
    });
    let (outcome, took) = asked(address);
    assert!(!is_good(&outcome) && took < Duration::from_secs(2), "{outcome:?}");
}

#[test]
fn a_lost_datagram_is_asked_for_again() {
    let lost = std::sync::atomic::AtomicBool::new(false);
    let address = server(move |query| match lost.swap(true, std::sync::atomic::Ordering::SeqCst) {
        false => vec![],
        true => vec![good_answer(query)],
    });
    let (outcome, took) = asked(address);
    assert!(is_good(&outcome) && took < Duration::from_secs(2), "{outcome:?} after {took:?}");
}

#[test]
fn silence_and_a_closed_port_are_told_apart_within_their_bounds() {
    let silent = server(|_| vec![]);
    let (outcome, took) = asked(silent);
    assert_eq!(outcome, Outcome::Silent);
    assert!(took > Duration::from_secs(3) && took < Duration::from_secs(6), "{took:?}");
    let closed = UdpSocket::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let (outcome, took) = asked(closed);
    assert!(matches!(outcome, Outcome::Unreachable(_)) && took < Duration::from_secs(1), "{outcome:?}");
}

#[test]
fn a_truncated_answer_is_fetched_over_tcp() {
    // A port that is free over both: somebody else may have it over TCP.
    let both = (0..20).find_map(|_| {
        let udp = UdpSocket::bind("127.0.0.1:0").unwrap();
        let tcp = std::net::TcpListener::bind(udp.local_addr().unwrap()).ok()?;
        Some((udp, tcp))
    });
    let (udp, tcp) = both.expect("a port that is free");
    let address = udp.local_addr().unwrap();
    std::thread::spawn(move || {
        let mut buffer = [0; 2048];
        let (length, from) = udp.recv_from(&mut buffer).unwrap();
        let mut truncated = good_answer(&buffer[..length]);
        truncated[2] |= 0x02;
        udp.send_to(&truncated, from).unwrap();
        use std::io::{Read, Write};
        let (mut stream, _) = tcp.accept().unwrap();
        let mut length = [0; 2];
        stream.read_exact(&mut length).unwrap();
        let mut query = vec![0; u16::from_be_bytes(length).into()];
        stream.read_exact(&mut query).unwrap();
        let answer = good_answer(&query);
        stream.write_all(&(answer.len() as u16).to_be_bytes()).unwrap();
        stream.write_all(&answer).unwrap();
    });
    assert!(is_good(&asked(address).0));
}

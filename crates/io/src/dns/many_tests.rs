//! The walker against servers of its own: shared questions, one connection for many, broken connections, silence.

use std::io::{Read, Write};
use std::net::{IpAddr, TcpListener, UdpSocket};
use std::sync::Arc;
use std::sync::atomic::AtomicUsize;
use std::sync::atomic::Ordering::SeqCst;

use brightharbor_core::zone::{RecordData, RecordType};
use domain::base::iana::Rcode;
use domain::base::{Message, MessageBuilder, Ttl};
use domain::rdata::A;

use super::*;

fn answer_to(query: &[u8]) -> Vec<u8> {
    let request = Message::from_octets(query).unwrap();
    let question = request.sole_question().unwrap();
    let mut answer = MessageBuilder::new_vec().start_answer(&request, Rcode::NOERROR).unwrap();
    answer.push((question.qname(), Ttl::from_secs(60), A::from_octets(192, 0, 2, 1))).unwrap();
    answer.finish()
}

fn question(server: SocketAddr, name: &str, transport: Transport) -> Question {
    Question { transport, ..Question::authoritative(server, &DnsName::absolute(name).unwrap(), RecordType::A) }
}

fn is_good(observation: &Observation) -> bool {
    let data = RecordData::A("192.0.2.1".parse().unwrap());
    matches!(&observation.outcome, Outcome::Reply(reply) if reply.answer.iter().any(|record| record.data == data))
}

fn block_on<T>(work: impl Future<Output = T>) -> T {
    tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap().block_on(work)
}

fn read_frame(stream: &mut std::net::TcpStream) -> Option<Vec<u8>> {
    let mut length = [0; 2];
    stream.read_exact(&mut length).ok()?;
    let mut frame = vec![0; u16::from_be_bytes(length).into()];
    stream.read_exact(&mut frame).ok()?;
    Some(frame)
}

fn write_frame(stream: &mut std::net::TcpStream, frame: &[u8]) {
    let mut framed = (frame.len() as u16).to_be_bytes().to_vec();
    framed.extend(frame);
    let _ = stream.write_all(&framed);
}

#[test]
fn what_is_about_others_is_asked_once_for_all_domains() {
    let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
    let (server, asked) = (socket.local_addr().unwrap(), Arc::new(AtomicUsize::new(0)));
    let counter = Arc::clone(&asked);
    std::thread::spawn(move || {
        let mut buffer = [0; 2048];
        while let Ok((length, from)) = socket.recv_from(&mut buffer) {
            counter.fetch_add(1, SeqCst);
            let _ = socket.send_to(&answer_to(&buffer[..length]), from);
        }
    });
    block_on(async {
        let walker = Walker::new(0).await;
        let gullrock = DnsName::absolute("gullrock.example").unwrap();
        let about = |name: &str| question(server, name, Transport::Udp);
        let both = [
            walker.observe(about("ns1.saltmarsh.example"), &gullrock, true),
            walker.observe(about("ns1.saltmarsh.example"), &gullrock, true),
        ];
        assert!(join_all(both).await.iter().all(is_good));
        assert_eq!(asked.load(SeqCst), 1, "both at once, and asked once");
        for _ in 0..2 {
            assert!(is_good(&walker.observe(about("www.gullrock.example"), &gullrock, true).await));
        }
        assert_eq!((asked.load(SeqCst), walker.asked()), (3, 3), "what is the domain's own is asked each time");
        let late = walker.observe(about("late.gullrock.example"), &gullrock, false).await;
        assert_eq!((late.outcome, asked.load(SeqCst)), (Outcome::Silent, 3), "nothing is asked after the time is over");
    });
}

#[test]
fn many_questions_share_a_connection_and_may_be_answered_in_any_order() {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let (server, connections) = (listener.local_addr().unwrap(), Arc::new(AtomicUsize::new(0)));
    let counter = Arc::clone(&connections);
    std::thread::spawn(move || {
        for stream in listener.incoming() {
            let mut stream = stream.unwrap();
            counter.fetch_add(1, SeqCst);
            std::thread::spawn(move || {
                let frames: Vec<_> = (0..3).map_while(|_| read_frame(&mut stream)).collect();
                frames.iter().rev().for_each(|frame| write_frame(&mut stream, &answer_to(frame)));
                while read_frame(&mut stream).is_some() {}
            });
        }
    });
    block_on(async {
        let walker = Walker::new(0).await;
        let names = ["a.gullrock.example", "b.gullrock.example", "c.gullrock.example"];
        let asked = join_all(names.map(|name| walker.ask(question(server, name, Transport::Tcp)))).await;
        assert!(asked.iter().all(is_good), "{asked:?}");
        assert_eq!(connections.load(SeqCst), 1);
    });
}

#[test]
fn a_connection_that_breaks_loses_no_question() {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let server = listener.local_addr().unwrap();
    std::thread::spawn(move || {
        // One question a connection, then it is closed: as some servers do.
        for stream in listener.incoming() {
            let mut stream = stream.unwrap();
            if let Some(frame) = read_frame(&mut stream) {
                write_frame(&mut stream, &answer_to(&frame));
            }
        }
    });
    block_on(async {
        let walker = Walker::new(0).await;
        let names: Vec<String> = (0..6).map(|number| format!("n{number}.gullrock.example")).collect();
        let asked = join_all(names.iter().map(|name| walker.ask(question(server, name, Transport::Tcp)))).await;
        assert!(asked.iter().all(is_good), "{asked:?}");
    });
}

#[test]
fn a_server_that_stays_silent_gets_one_try_at_last() {
    // Bound, and never read from.
    let socket = UdpSocket::bind((IpAddr::from([127, 0, 0, 1]), 0)).unwrap();
    let server = socket.local_addr().unwrap();
    block_on(async {
        let walker = Walker::new(0).await;
        let ask = |number: u32| walker.ask(question(server, &format!("n{number}.gullrock.example"), Transport::Udp));
        assert!(join_all((0..MOST_FAILURES).map(ask)).await.iter().all(|seen| seen.outcome == Outcome::Silent));
        let started = Instant::now();
        assert_eq!(ask(100).await.outcome, Outcome::Silent);
        assert!(started.elapsed() < Duration::from_millis(2_000), "{:?}", started.elapsed());
    });
}

#[test]
fn sockets_are_closed_with_the_walker() {
    let open = || std::fs::read_dir("/proc/self/fd").unwrap().count();
    block_on(async {
        let before = open();
        for _ in 0..40 {
            drop(Walker::new(0).await);
            tokio::task::yield_now().await;
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
        // Other tests of this process open a few meanwhile; 40 walkers would have left 640.
        assert!(open() < before + 200, "{before} before, {} after", open());
    });
}

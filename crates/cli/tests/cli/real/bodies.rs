//! Bodies of requests over HTTP/2, on real servers: bounded for programs, whether they say how long they are or not.

use std::io::{Read, Write};
use std::net::{SocketAddr, TcpListener};
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use super::voyage::Port;

const SITE: &str = "crumbandtide.example";

/// A program that takes all it is sent, and how often it was asked.
fn program() -> (SocketAddr, Arc<AtomicUsize>) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    let asked = Arc::new(AtomicUsize::new(0));
    let counted = Arc::clone(&asked);
    std::thread::spawn(move || {
        for mut stream in listener.incoming().flatten() {
            counted.fetch_add(1, Ordering::SeqCst);
            std::thread::spawn(move || {
                let (mut seen, mut buffer) = (Vec::new(), [0; 4096]);
                while let Ok(read @ 1..) = stream.read(&mut buffer) {
                    seen.extend(&buffer[..read]);
                    let text = String::from_utf8_lossy(&seen).to_ascii_lowercase();
                    let Some((head, body)) = text.split_once("\r\n\r\n") else { continue };
                    let length = head.lines().find_map(|line| line.strip_prefix("content-length: ")?.parse().ok());
                    if body.len() >= length.unwrap_or(0) {
                        break;
                    }
                }
                let _ = stream.write_all(b"HTTP/1.1 200 OK\r\nContent-Length: 5\r\nConnection: close\r\n\r\ntaken");
            });
        }
    });
    (address, asked)
}

/// The status of a request over HTTP/2, and the version that was spoken.
fn send(port: &Port, size: usize, more: &[&str]) -> String {
    let cast = &port.world.cast;
    let mut command = Command::new("curl");
    command.args(["--http2", "-s", "-m", "20", "-o", "/dev/null", "-w", "%{http_version} %{http_code}", "-X", "POST"]);
    command.args(["--data-binary", "@-"]).args(more).arg("--cacert").arg(&port.ca.root);
    command.arg("--resolve").arg(format!("{SITE}:{}:{}", cast.https_port, cast.web()));
    command.arg(format!("https://{SITE}:{}/tides", cast.https_port)).stdin(Stdio::piped()).stdout(Stdio::piped());
    let mut child = command.spawn().expect("curl is missing; run scripts/test");
    // The server may have heard enough before all of it is sent.
    let _ = child.stdin.take().unwrap().write_all(&vec![b'a'; size]);
    String::from_utf8_lossy(&child.wait_with_output().unwrap().stdout).into_owned()
}

fn are_bounded(kind: &str, in_pieces: &str) {
    let port = Port::new(kind);
    let (address, asked) = program();
    port.run(&["account", "add", "bakery", "--email", "baker@saltmarsh.example"]).expect(0);
    port.delegate_here(SITE);
    let serve = format!("/tides=http://{address}");
    let run = port.run(&["attach", SITE, "--account", "bakery", "--serve", &serve, "--body-limit", "64K"]);
    assert!([0, 3].contains(&run.exit), "{run:?}");
    port.tend_until_served();
    assert_eq!(send(&port, 1_000, &[]), "2 200", "{kind}");
    let before = asked.load(Ordering::SeqCst);
    let refused = |size: usize, more: &[&str]| {
        let answer = send(&port, size, more);
        // Apache httpd may end the stream before its answer is heard, since nobody has read the body.
        assert!(["2 413", "2 411", "0 000"].contains(&answer.as_str()), "{kind} {size}: {answer}");
        assert_eq!(asked.load(Ordering::SeqCst), before, "{kind} {size}: the program was asked");
    };
    refused(100_000, &[]);
    // A body that comes in pieces says nothing of its length.
    let pieces = ["-H", "Transfer-Encoding: chunked", "-H", "Content-Length:"];
    refused(1_000_000, &pieces);
    if in_pieces == "refused" {
        refused(1_000, &pieces);
    } else {
        assert_eq!(send(&port, 1_000, &pieces), "2 200", "{kind}");
    }
}

#[test]
fn nginx_counts_what_comes() {
    are_bounded("nginx", "taken");
}

#[test]
fn apache_wants_the_length_told() {
    are_bounded("apache", "refused");
}

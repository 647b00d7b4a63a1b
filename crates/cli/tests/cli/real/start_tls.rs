//! Protocols that begin in the clear: a stand-in says what servers of each kind say, and passes the handshake on to OpenSSL's
//! own server.

use std::io::{Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};

use serde_json::{Value, json};

use super::tls::start;
use crate::coast::{brightharbor, run};

/// What it says first, and to each message, in turn; after the last answer the handshake is passed on.
type Script = &'static [&'static [u8]];

const SMTP: Script =
    &[b"220-quay\r\n220 ESMTP\r\n", b"250-quay\r\n250-SIZE 1000\r\n250 STARTTLS\r\n", b"220 go on\r\n"];
const IMAP: Script = &[b"* OK ready\r\n", b"a OK begin\r\n"];
const POP3: Script = &[b"+OK quay\r\n", b"+OK begin\r\n"];
const FTP: Script = &[b"220 quay\r\n", b"234 AUTH TLS\r\n"];
const LDAP: Script = &[b"", &[0x30, 0x0c, 2, 1, 1, 0x78, 7, 0x0a, 1, 0, 4, 0, 4, 0]];
const POSTGRES: Script = &[b"", b"S"];

fn speak(script: Script, behind: Option<SocketAddr>) -> SocketAddr {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    std::thread::spawn(move || {
        for visitor in listener.incoming().flatten() {
            std::thread::spawn(move || talk(visitor, script, behind));
        }
    });
    address
}

fn talk(mut visitor: TcpStream, script: Script, behind: Option<SocketAddr>) -> Option<()> {
    let (first, answers) = script.split_first()?;
    visitor.write_all(first).ok()?;
    for answer in answers {
        let mut message = [0; 512];
        if visitor.read(&mut message).ok()? == 0 {
            return None;
        }
        visitor.write_all(answer).ok()?;
    }
    let mut server = TcpStream::connect(behind?).ok()?;
    let (mut from_visitor, mut to_server) = (visitor.try_clone().ok()?, server.try_clone().ok()?);
    // This server has time for one visitor at once: it is to know when one leaves.
    std::thread::spawn(move || {
        let _ = std::io::copy(&mut from_visitor, &mut to_server);
        to_server.shutdown(std::net::Shutdown::Both)
    });
    let _ = std::io::copy(&mut server, &mut visitor);
    let _ = visitor.shutdown(std::net::Shutdown::Both);
    Some(())
}

fn check(address: SocketAddr, more: &[&str]) -> Value {
    let target = format!("gullrock.example:{}", address.port());
    let mut command = brightharbor();
    command.args(["certificate", "check", &target, "--at", "127.0.0.1", "--json"]).args(more);
    let done = run(command.env("BRIGHTHARBOR", "/nowhere"));
    assert_eq!(done.exit, 1, "its root is not known: {done:?}");
    serde_json::from_str::<Value>(&done.stdout).unwrap()["servers"][0].clone()
}

#[test]
fn each_kind_of_server_is_asked_in_its_own_words() {
    let folder = tempfile::tempdir().unwrap();
    let (_server, behind) = start(folder.path(), &["-min_protocol", "TLSv1.2"]);
    for (word, script) in
        [("smtp", SMTP), ("imap", IMAP), ("pop3", POP3), ("ftp", FTP), ("ldap", LDAP), ("postgres", POSTGRES)]
    {
        let seen = check(speak(script, Some(behind)), &["--starttls", word]);
        assert_eq!((&seen["starttls"], &seen["failed"]), (&json!(word), &json!(null)), "{seen}");
        assert_eq!(seen["names"], json!(["gullrock.example"]), "{seen}");
        assert_eq!(seen["versions"], json!(["TLS 1.2", "TLS 1.3"]), "{word}: each version by a connection of its own");
        assert_eq!((&seen["hsts_seconds"], &seen["findings"][0]["code"]), (&json!(null), &json!("served-not-trusted")));
    }
    // TLS at once is no such protocol, and the other way round.
    let seen = check(behind, &[]);
    assert_eq!((&seen["starttls"], &seen["failed"]), (&json!(null), &json!(null)), "{seen}");
    let seen = check(speak(SMTP, Some(behind)), &[]);
    assert!(seen["failed"].is_string(), "{seen}");
}

#[test]
fn a_server_that_does_not_change_to_tls_is_quoted() {
    const NO_SMTP: Script = &[b"220 a\r\n", b"250 a\r\n", b"502 not here\r\n"];
    const NO_IMAP: Script = &[b"* OK\r\n", b"a BAD what\r\n"];
    const NO_POSTGRES: Script = &[b"", b"N"];
    for (script, word, words) in [
        (NO_SMTP, "smtp", "does not change to TLS by smtp: it answers `502 not here`"),
        (NO_IMAP, "imap", "does not change to TLS by imap: it answers `a BAD what`"),
        (NO_POSTGRES, "postgres", "does not change to TLS by postgres: it answers that it has no TLS"),
    ] {
        let seen = check(speak(script, None), &["--starttls", word]);
        let failed = seen["failed"].as_str().unwrap();
        assert!(failed.contains(words), "{failed}");
        assert_eq!(seen["versions"], json!([]), "{seen}");
    }
}

//! A CA that sends anything: the order ends, is refused or goes on, without a panic and in a bounded number of steps.
#![no_main]

use brightharbor_core::acme::{Brief, Machine, Response, Step};
use brightharbor_core::name::{Host, Hostname};
use jiff::{SignedDuration, Timestamp};
use libfuzzer_sys::fuzz_target;

const MOST_STEPS: usize = 3_000;

fuzz_target!(|data: &[u8]| {
    let brief = Brief {
        directory_url: "https://ca.example/directory".into(),
        names: vec![Host::parse("gullrock.example").expect("a hostname")],
        wildcards: vec![Hostname::parse("gullrock.example").expect("a hostname")],
        proof: Default::default(),
        contact: None,
        terms_accepted: true,
        thumbprint: "thumb".into(),
        external_account: None,
        preferred_chain: Some("Quay".into()),
        replaces: Some("aki.serial".into()),
        profile: None,
        stapled: false,
    };
    let mut machine = Machine::new(brief, None);
    let mut now: Timestamp = "2026-11-23T12:00:00Z".parse().expect("a time");
    // Lines are answers: a status word, then the body. The last one is repeated.
    let lines: Vec<&[u8]> = data.split(|byte| *byte == b'\n').collect();
    let mut sent = 0;
    for _ in 0..MOST_STEPS {
        match machine.next(now) {
            Step::Send(_) => {
                let line = lines[sent.min(lines.len() - 1)];
                sent += 1;
                let (kind, body) = line.split_first().unwrap_or((&b'2', &[]));
                let response = Response {
                    status: match kind {
                        b'4' => 400,
                        b'5' => 503,
                        _ => 200,
                    },
                    location: (*kind != b'l').then(|| "https://ca.example/1".into()),
                    nonce: (*kind != b'n').then(|| "nonce".into()),
                    alternates: vec!["https://ca.example/alternate".into()],
                    next: None,
                    retry_after: (*kind == b'r').then(|| "1".into()),
                    body: body.to_vec(),
                };
                if *kind == b'f' {
                    machine.failed("cut off", now);
                } else {
                    machine.received(&response, now);
                }
            }
            Step::PlaceProofs(_) => machine.proofs_placed(),
            Step::WaitUntil(until) => now = until.max(now + SignedDuration::from_millis(1)),
            Step::MakeRequest(_) => machine.request_made(b"request"),
            Step::Finished { .. } | Step::Refused(_) => return,
        }
    }
    panic!("no end after {MOST_STEPS} steps");
});

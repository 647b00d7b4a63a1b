//! Downloading the certificate.

use super::*;

fn downloading() -> Talk {
    preferring(None)
}

fn preferring(preferred_chain: Option<&str>) -> Talk {
    let brief = Brief { preferred_chain: preferred_chain.map(String::from), ..brief() };
    let mut talk = Talk::ordered_for(brief, "ready");
    let Step::MakeRequest(_) = talk.machine.next(talk.now) else { panic!("no request") };
    talk.machine.request_made(b"\xff\xfe");
    talk.post();
    talk.answer(200, &order("valid", r#", "certificate": "https://ca.example/certificate/1""#));
    talk.post();
    talk
}

#[test]
fn a_chain_that_can_be_read_ends_it() {
    let key = rcgen::KeyPair::generate().unwrap();
    let pem = rcgen::CertificateParams::new(vec!["gullrock.example".into()]).unwrap().self_signed(&key).unwrap().pem();
    let mut talk = downloading();
    talk.answer(200, &pem);
    assert_eq!(talk.machine.next(talk.now), Step::Finished { chain_pem: pem });
}

#[test]
fn anything_else_is_refused() {
    let mut talk = downloading();
    talk.answer(200, "<html>a certificate</html>");
    assert!(matches!(talk.refusal(), Refusal::Unexpected { .. }));
}

fn issued_by(name: &str) -> String {
    let key = rcgen::KeyPair::generate().unwrap();
    let mut params = rcgen::CertificateParams::new(vec!["gullrock.example".into()]).unwrap();
    params.distinguished_name.push(rcgen::DnType::CommonName, name);
    params.self_signed(&key).unwrap().pem()
}

#[test]
fn the_preferred_chain_is_looked_for_among_the_alternates() {
    let (first, second, third) = (issued_by("Quay Root"), issued_by("Harbour Root"), issued_by("Old Pier Root"));
    for (wanted, expected) in [("Harbour", &second), ("Quay", &first), ("Lighthouse", &first)] {
        let mut talk = preferring(Some(wanted));
        talk.answer_with(200, &first, |response| {
            response.alternates =
                vec!["https://ca.example/alternate/1".into(), "https://ca.example/alternate/2".into()];
        });
        for (url, chain) in [("https://ca.example/alternate/1", &third), ("https://ca.example/alternate/2", &second)] {
            if let Step::Send(_) = talk.machine.next(talk.now) {
                assert_eq!(talk.post().0, url);
                talk.answer(200, chain);
            }
        }
        assert_eq!(talk.machine.next(talk.now), Step::Finished { chain_pem: expected.clone() }, "{wanted}");
    }
}

#[test]
fn a_spoilt_alternate_leaves_the_first_chain() {
    let first = issued_by("Quay Root");
    let mut talk = preferring(Some("Harbour"));
    talk.answer_with(200, &first, |response| response.alternates = vec!["https://ca.example/alternate/1".into()]);
    talk.post();
    talk.answer(200, "<html>");
    assert_eq!(talk.machine.next(talk.now), Step::Finished { chain_pem: first });
}

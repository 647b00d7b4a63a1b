//! Downloading the certificate.

use super::*;

fn downloading() -> Talk {
    let mut talk = Talk::finalizing();
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

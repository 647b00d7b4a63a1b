//! Finalizing.

use super::*;

#[test]
fn the_request_is_sent_as_base64url_of_its_der() {
    let mut talk = Talk::finalizing();
    assert_eq!(talk.post(), ("https://ca.example/finalize/1".into(), r#"{"csr":"__4"}"#.into()));
    talk.answer(200, &order("processing", ""));
    assert_eq!(talk.post(), ("https://ca.example/order/1".into(), String::new()));
}

#[test]
fn an_order_that_a_killed_run_has_finalized_already_is_looked_at() {
    let mut talk = Talk::finalizing();
    talk.post();
    talk.answer(403, &problem("orderNotReady", "the order is valid"));
    assert_eq!(talk.post().0, "https://ca.example/order/1");
    talk.answer(200, &order("valid", r#", "certificate": "https://ca.example/certificate/1""#));
    assert_eq!(talk.post().0, "https://ca.example/certificate/1");
}

#[test]
fn a_bad_request_is_refused_with_the_cas_words() {
    let mut talk = Talk::finalizing();
    talk.post();
    talk.answer(400, &problem("badCSR", "a weak key"));
    assert!(matches!(talk.refusal(), Refusal::Problem { problem, .. } if problem.detail == "a weak key"));
}

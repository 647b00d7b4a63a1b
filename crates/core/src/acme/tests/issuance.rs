//! Waiting for the certificate.

use super::*;

fn waiting() -> Talk {
    let mut talk = Talk::finalizing();
    talk.post();
    talk.answer(200, &order("processing", ""));
    talk
}

#[test]
fn the_order_is_asked_until_it_is_valid() {
    let mut talk = waiting();
    talk.post();
    talk.answer(200, &order("processing", ""));
    assert!(matches!(talk.machine.next(talk.now), Step::WaitUntil(_)));
    talk.post();
    talk.answer(200, &order("valid", r#", "certificate": "https://ca.example/certificate/1""#));
    assert_eq!(talk.post(), ("https://ca.example/certificate/1".into(), String::new()));
}

#[test]
fn an_order_that_fails_is_refused() {
    let mut talk = waiting();
    talk.post();
    talk.answer(200, &order("invalid", &format!(r#", "error": {}"#, problem("caa", "not allowed"))));
    assert!(matches!(talk.refusal(), Refusal::Problem { problem, .. } if problem.word() == "caa"));
}

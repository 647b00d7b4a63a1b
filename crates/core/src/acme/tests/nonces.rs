//! Nonces, and answers that are errors of the moment.

use super::*;

fn nonce_of(request: &Request) -> String {
    match &request.payload {
        Payload::Signed { nonce, .. } => nonce.clone(),
        other => panic!("{other:?}"),
    }
}

#[test]
fn the_nonce_of_each_answer_signs_the_next_request_and_none_is_used_twice() {
    let mut talk = Talk::ordered("pending");
    let mut used = std::collections::HashSet::new();
    for number in [1, 2] {
        let request = talk.request();
        assert!(used.insert(nonce_of(&request)));
        talk.answer(200, &authorization(number, "valid"));
    }
    let mut talk = Talk::ordered("pending");
    talk.request();
    talk.answer_with(200, &authorization(1, "valid"), |response| response.nonce = None);
    assert_eq!(talk.request().payload, Payload::Head, "without a nonce one is asked for");
}

#[test]
fn a_refused_nonce_is_replaced_at_once_and_not_for_ever() {
    let mut talk = Talk::ordered("pending");
    let first = nonce_of(&talk.request());
    talk.answer(400, &problem("badNonce", "stale"));
    let Step::Send(request) = talk.machine.next(talk.now) else { panic!("a pause, though nothing is wrong") };
    assert_eq!(request.url, "https://ca.example/authorization/1");
    assert_ne!(nonce_of(&request), first);
    for _ in 0..20 {
        talk.answer(400, &problem("badNonce", "stale"));
    }
    assert!(matches!(talk.refusal(), Refusal::Problem { problem, .. } if problem.word() == "badNonce"));
}

#[test]
fn a_ca_in_trouble_gets_growing_pauses_and_a_few_tries() {
    let mut talk = Talk::ordered("pending");
    let mut pauses = Vec::new();
    loop {
        match talk.machine.next(talk.now) {
            Step::Send(_) => talk.answer(503, "out of order"),
            Step::WaitUntil(until) => {
                pauses.push(until.duration_since(talk.now).as_millis());
                talk.now = until;
            }
            Step::Refused(refusal) => {
                assert!(matches!(refusal, Refusal::Silent { what, .. } if what == "status 503"));
                break;
            }
            other => panic!("{other:?}"),
        }
    }
    assert_eq!(pauses, [300, 600, 1200, 2400]);
}

#[test]
fn a_network_that_fails_is_tried_again_and_then_told() {
    let mut talk = Talk::new(None);
    for _ in 0..5 {
        talk.request();
        talk.machine.failed("connection refused", talk.now);
    }
    assert!(matches!(talk.refusal(), Refusal::Silent { what, .. } if what == "connection refused"));
}

#[test]
fn what_one_order_leaves_another_one_takes() {
    let mut first = Talk::new(None);
    first.request();
    first.answer(200, DIRECTORY);
    assert!(first.machine.has_nonce());
    let left = first.machine.spare_nonces();
    assert!(!first.machine.has_nonce() && left.len() == 1);
    let mut second = Talk::new(Some("https://ca.example/account/1"));
    let directory = first.machine.directory().unwrap().clone();
    second.machine = second.machine.clone().with_directory(directory);
    second.machine.lend(left.clone());
    let request = second.request();
    assert_eq!(request.url, "https://ca.example/order", "neither a directory nor a nonce is asked for");
    assert!(matches!(request.payload, Payload::Signed { nonce, .. } if nonce == left[0]));
}

#[test]
fn a_directory_of_before_whose_urls_are_gone_is_read_anew_once() {
    let mut first = Talk::new(None);
    first.request();
    first.answer(200, DIRECTORY);
    let directory = first.machine.directory().unwrap().clone();
    let mut talk = Talk::new(Some("https://ca.example/account/1"));
    talk.machine = talk.machine.clone().with_directory(directory);
    talk.post();
    talk.answer(404, "gone");
    assert_eq!(talk.request().payload, Payload::Get);
    talk.answer(200, DIRECTORY);
    talk.post();
    talk.answer(404, "gone");
    assert!(matches!(talk.refusal(), Refusal::Unexpected { .. }));
}

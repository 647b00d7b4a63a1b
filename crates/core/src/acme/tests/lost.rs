//! Answers that got lost: what the CA may have done is read before it is asked once more.

use super::*;

/// The order in an answer, with the names that it is for.
fn named(status: &str, names: [&str; 2], more: &str) -> String {
    let [first, second] = names;
    let identifiers = format!(
        r#", "identifiers": [{{ "type": "dns", "value": "{first}" }}, {{ "type": "dns", "value": "{second}" }}] {more}"#
    );
    order(status, &identifiers)
}

const OURS: [&str; 2] = ["www.gullrock.example", "gullrock.example"];

/// Up to the order that is about to be placed, and whose answer does not arrive.
fn lost_order() -> Talk {
    let mut talk = Talk::new(Some("https://ca.example/account/1"));
    talk.request();
    talk.answer(200, DIRECTORY);
    assert_eq!(talk.post().0, "https://ca.example/order");
    talk.machine.failed("the connection ended", talk.now);
    talk
}

#[test]
fn an_order_that_was_placed_is_found_in_the_list_of_the_account() {
    let mut talk = lost_order();
    assert_eq!(talk.post(), ("https://ca.example/account/1".into(), String::new()));
    talk.answer(200, r#"{ "orders": "https://ca.example/orders/1" }"#);
    assert_eq!(talk.post().0, "https://ca.example/orders/1");
    let page = r#"{ "orders": ["https://ca.example/order/1", "https://ca.example/order/2"] }"#;
    talk.answer_with(200, page, |response| response.next = Some("https://ca.example/orders/1?page=2".into()));
    assert_eq!(talk.post().0, "https://ca.example/orders/1?page=2");
    talk.answer(200, r#"{ "orders": ["https://ca.example/order/3", "https://ca.example/order/4"] }"#);
    // The newest is for other names, the one before it has come to its end.
    assert_eq!(talk.post().0, "https://ca.example/order/4");
    talk.answer(200, &named("pending", ["gullrock.example", "quay.example"], ""));
    assert_eq!(talk.post().0, "https://ca.example/order/3");
    talk.answer(200, &named("invalid", OURS, ""));
    assert_eq!(talk.post().0, "https://ca.example/order/2");
    talk.answer(200, &named("pending", OURS, ""));
    assert_eq!(talk.post().0, "https://ca.example/authorization/1", "gone on with");
}

#[test]
fn where_no_order_is_found_it_is_placed() {
    let mut without_list = lost_order();
    without_list.post();
    without_list.answer(200, "{}");
    assert_eq!(without_list.post().0, "https://ca.example/order");

    let mut refused = lost_order();
    refused.post();
    refused.answer(200, r#"{ "orders": "https://ca.example/orders/1" }"#);
    refused.post();
    refused.answer(404, &problem("malformed", "no such list"));
    assert_eq!(refused.post().0, "https://ca.example/order");

    let mut empty = lost_order();
    empty.post();
    empty.answer(200, r#"{ "orders": "https://ca.example/orders/1" }"#);
    empty.post();
    empty.answer(200, r#"{ "orders": ["https://ca.example/order/1"] }"#);
    empty.post();
    empty.answer(200, &named("valid", OURS, ""));
    assert_eq!(empty.post().0, "https://ca.example/order", "that one has another key");
    // A CA whose answer is lost every time is not asked for ever.
    let mut rounds = 0;
    while !matches!(empty.machine.next(empty.now), Step::Refused(_)) {
        empty.request();
        empty.machine.failed("the connection ended", empty.now);
        rounds += 1;
        assert!(rounds < 40);
    }
}

#[test]
fn a_challenge_that_the_ca_is_at_is_not_answered_twice() {
    let mut talk = Talk::with_proofs();
    let Step::PlaceProofs(_) = talk.machine.next(talk.now) else { panic!("no proofs") };
    talk.machine.proofs_placed();
    assert_eq!(talk.post().0, "https://ca.example/challenge/1");
    talk.machine.failed("the connection ended", talk.now);
    assert_eq!(talk.post().0, "https://ca.example/order/1", "the order first");
    talk.answer(200, &order("pending", ""));
    assert_eq!(talk.post().0, "https://ca.example/authorization/1");
    let at_it = authorization(1, "pending")
        .replace("\"token\": \"token-1\"", "\"token\": \"token-1\", \"status\": \"processing\"");
    talk.answer(200, &at_it);
    talk.post();
    talk.answer(200, &authorization(2, "pending"));
    // The other one was not told of yet.
    let Step::PlaceProofs(proofs) = talk.machine.next(talk.now) else { panic!("no proofs") };
    assert_eq!(proofs.len(), 1);
    talk.machine.proofs_placed();
    assert_eq!(talk.post().0, "https://ca.example/challenge/2");
    talk.answer(200, "{}");
    for number in [2, 1] {
        assert_eq!(talk.post().0, format!("https://ca.example/authorization/{number}"), "both are watched");
        talk.answer(200, &authorization(number, "valid"));
    }
    assert!(matches!(talk.machine.next(talk.now), Step::MakeRequest(_)));
}

#[test]
fn a_request_for_a_certificate_is_handed_over_again_only_while_the_order_waits_for_it() {
    let lost = |status: &str| {
        let mut talk = Talk::finalizing();
        let (url, sent) = talk.post();
        assert_eq!(url, "https://ca.example/finalize/1");
        talk.machine.failed("the connection ended", talk.now);
        assert_eq!(talk.post().0, "https://ca.example/order/1");
        talk.answer(200, &order(status, r#", "certificate": "https://ca.example/certificate/1""#));
        (talk.post(), sent)
    };
    let (again, sent) = lost("ready");
    assert_eq!(again, ("https://ca.example/finalize/1".into(), sent), "the same request");
    assert_eq!(lost("processing").0.0, "https://ca.example/order/1");
    assert_eq!(lost("valid").0.0, "https://ca.example/certificate/1");
    // A server in trouble may have done it too.
    let mut talk = Talk::finalizing();
    talk.post();
    talk.answer(502, "");
    assert_eq!(talk.post().0, "https://ca.example/order/1");
}

#[test]
fn an_order_of_a_killed_run_is_read_before_it_goes_on() {
    let mut talk = Talk::finalizing();
    talk.post();
    let saved = serde_json::to_string(&talk.machine).unwrap();
    talk.machine = serde_json::from_str(&saved).unwrap();
    talk.machine.look_again();
    assert_eq!(talk.post().0, "https://ca.example/order/1");
}

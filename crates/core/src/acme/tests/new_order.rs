//! Waiting for the new order.

use super::*;

#[test]
fn it_names_all_names() {
    let mut talk = Talk::new(Some("https://ca.example/account/1"));
    talk.request();
    talk.answer(200, DIRECTORY);
    let payload: serde_json::Value = serde_json::from_str(&talk.post().1).unwrap();
    let expected = serde_json::json!([
        { "type": "dns", "value": "gullrock.example" },
        { "type": "dns", "value": "www.gullrock.example" },
    ]);
    assert_eq!(payload["identifiers"], expected);
}

#[test]
fn an_order_that_is_ready_at_once_goes_straight_to_the_request() {
    let mut talk = Talk::ordered("ready");
    assert_eq!(talk.machine.next(talk.now), Step::MakeRequest(brief().identifiers()));
}

#[test]
fn a_rate_limit_is_told_with_the_time_from_which_it_is_over() {
    let mut talk = Talk::new(Some("https://ca.example/account/1"));
    talk.request();
    talk.answer(200, DIRECTORY);
    talk.post();
    talk.answer_with(429, &problem("rateLimited", "too many"), |response| response.retry_after = Some("3600".into()));
    let expected = after(&talk, 3600);
    let Refusal::Problem { problem, not_before, .. } = talk.refusal() else { panic!() };
    assert_eq!((problem.word(), not_before), ("rateLimited", Some(expected)));
}

#[test]
fn a_date_in_retry_after_is_read_too() {
    let response = Response { retry_after: Some("Mon, 23 Nov 2026 08:00:00 GMT".into()), ..Response::default() };
    let now: Timestamp = "2026-11-23T07:00:00Z".parse().unwrap();
    assert_eq!(response.retry_after(now), Some("2026-11-23T08:00:00Z".parse().unwrap()));
    let nonsense = Response { retry_after: Some("soon".into()), ..Response::default() };
    assert_eq!(nonsense.retry_after(now), None);
}

#[test]
fn what_it_replaces_is_named_where_the_ca_knows_of_it_and_dropped_when_it_is_refused() {
    let renewing = Brief { replaces: Some("aki.serial".into()), ..brief() };
    let knows = DIRECTORY.replacen('{', r#"{ "renewalInfo": "https://ca.example/renewal","#, 1);
    for (directory, named) in [(DIRECTORY, false), (knows.as_str(), true)] {
        let mut talk = Talk::about(renewing.clone(), Some("https://ca.example/account/1"));
        talk.request();
        talk.answer(200, directory);
        assert_eq!(talk.post().1.contains(r#""replaces":"aki.serial""#), named);
        if named {
            talk.answer(409, &problem("alreadyReplaced", "it has a successor"));
            assert!(!talk.post().1.contains("replaces"));
        }
    }
}

#[test]
fn a_wildcard_takes_the_place_of_the_names_that_it_covers() {
    let brief = Brief { wildcards: vec![crate::name::Hostname::parse("gullrock.example").unwrap()], ..brief() };
    let mut talk = Talk::about(brief, Some("https://ca.example/account/1"));
    talk.request();
    talk.answer(200, DIRECTORY);
    let payload: serde_json::Value = serde_json::from_str(&talk.post().1).unwrap();
    let expected = serde_json::json!([
        { "type": "dns", "value": "gullrock.example" },
        { "type": "dns", "value": "*.gullrock.example" },
    ]);
    assert_eq!(payload["identifiers"], expected);
}

//! Waiting for the directory.

use super::*;
use crate::acme::Directory;

#[test]
fn it_is_fetched_unsigned_and_leads_to_the_account_or_straight_to_the_order() {
    let mut talk = Talk::new(None);
    let request = talk.request();
    assert_eq!(request, Request { url: "https://ca.example/directory".into(), payload: Payload::Get });
    talk.answer(200, DIRECTORY);
    assert_eq!(talk.post().0, "https://ca.example/account");
    let mut talk = Talk::new(Some("https://ca.example/account/1"));
    talk.request();
    talk.answer(200, DIRECTORY);
    assert_eq!(talk.post().0, "https://ca.example/order");
}

#[test]
fn terms_that_are_not_accepted_are_named() {
    let mut talk = Talk { machine: Machine::new(Brief { terms_accepted: false, ..brief() }, None), ..Talk::new(None) };
    talk.request();
    talk.answer(200, DIRECTORY);
    assert_eq!(talk.refusal(), Refusal::Terms { terms: Some("https://ca.example/terms".into()) });
}

#[test]
fn a_profile_is_ordered_if_the_directory_lists_it() {
    let wishing =
        || Machine::new(Brief { profile: Some("days".into()), ..brief() }, Some("https://ca.example/1".into()));
    let begin = |directory: &str| {
        let mut talk = Talk { machine: wishing(), ..Talk::new(None) };
        talk.request();
        talk.answer(200, directory);
        talk
    };
    let listed = DIRECTORY.replace(r#""meta": {"#, r#""meta": { "profiles": { "days": "for a week", "months": "" },"#);
    let (url, order) = begin(&listed).post();
    assert_eq!(url, "https://ca.example/order");
    assert!(order.contains(r#""profile":"days""#), "{order}");
    let offered = vec!["months".to_string()];
    let without = listed.replace(r#""days": "for a week", "#, "");
    assert_eq!(begin(&without).refusal(), Refusal::Profile { profile: "days".into(), offered });
    assert_eq!(begin(DIRECTORY).refusal(), Refusal::Profile { profile: "days".into(), offered: vec![] });
    for odd in ["null", "[]", r#"{ "days": 7 }"#] {
        let odd = DIRECTORY.replace(r#""meta": {"#, &format!(r#""meta": {{ "profiles": {odd},"#));
        assert!(matches!(begin(&odd).refusal(), Refusal::Profile { .. }), "{odd}: it is read all the same");
    }
    let mut usual = Talk::new(Some("https://ca.example/1"));
    usual.request();
    usual.answer(200, &listed);
    assert!(!usual.post().1.contains("profile"), "the CA's own choice");
}

#[test]
fn what_is_no_directory_is_refused() {
    for body in ["", "<html>", "[]", "{}"] {
        let mut talk = Talk::new(None);
        talk.request();
        talk.answer(200, body);
        assert!(matches!(talk.refusal(), Refusal::Unexpected { during, .. } if during.contains("directory")), "{body}");
    }
    let mut talk = Talk::new(None);
    talk.request();
    talk.answer(200, &DIRECTORY.replace(r#""meta": {"#, r#""meta": { "externalAccountRequired": true,"#));
    assert_eq!(talk.refusal(), Refusal::ExternalAccount);
}

#[test]
fn a_directory_may_name_other_hosts_but_no_other_schemes() {
    for field in ["/nonce", "/account", "/order"] {
        for scheme in ["http://ca.example", "file:///etc", "ca.example"] {
            let spoilt = DIRECTORY.replace(&format!("https://ca.example{field}\""), &format!("{scheme}{field}\""));
            assert_ne!(spoilt, DIRECTORY, "{field}");
            let mut talk = Talk::new(None);
            talk.request();
            talk.answer(200, &spoilt);
            assert!(
                matches!(talk.refusal(), Refusal::Unexpected { what, .. } if what.contains("not https")),
                "{scheme}{field}"
            );
        }
    }
    let directory: Directory = serde_json::from_str(DIRECTORY).unwrap();
    assert!(directory.other_hosts("https://ca.example/directory").is_empty());
    let elsewhere = DIRECTORY.replace("https://ca.example/order\"", "https://pier.example/order\"");
    let directory: Directory = serde_json::from_str(&elsewhere).unwrap();
    assert_eq!(directory.other_hosts("https://ca.example/directory"), ["pier.example"]);
}

//! Waiting for the account.

use super::*;

fn opening() -> Talk {
    let mut talk = Talk::new(None);
    talk.request();
    talk.answer(200, DIRECTORY);
    talk
}

#[test]
fn the_key_signs_by_itself_and_then_by_the_accounts_url() {
    let mut talk = opening();
    let request = talk.request();
    assert_eq!(signer(&request), &Signer::NewKey);
    let Payload::Signed { json, .. } = request.payload else { panic!() };
    let payload: serde_json::Value = serde_json::from_str(&json).unwrap();
    assert_eq!(payload["contact"][0], "mailto:hostmaster@saltmarsh.example");
    assert_eq!(payload["termsOfServiceAgreed"], true);
    talk.answer_at(201, "https://ca.example/account/7", "{}");
    assert_eq!(talk.machine.account(), Some("https://ca.example/account/7"));
    let request = talk.request();
    assert_eq!(signer(&request), &Signer::Account("https://ca.example/account/7".into()));
}

#[test]
fn an_answer_without_the_accounts_url_is_refused() {
    let mut talk = opening();
    talk.post();
    talk.answer(201, "{}");
    assert!(matches!(talk.refusal(), Refusal::Unexpected { what, .. } if what.contains("Location")));
}

#[test]
fn an_account_that_the_ca_has_forgotten_is_opened_again() {
    let mut talk = Talk::new(Some("https://ca.example/account/1"));
    talk.request();
    talk.answer(200, DIRECTORY);
    talk.post();
    talk.answer(400, &problem("accountDoesNotExist", "who?"));
    let request = talk.request();
    assert_eq!((request.url.as_str(), signer(&request)), ("https://ca.example/account", &Signer::NewKey));
}

#[test]
fn a_new_account_is_bound_to_the_external_one() {
    let mut talk = Talk::about(Brief { external_account: Some("customer-7".into()), ..brief() }, None);
    talk.request();
    talk.answer(200, &DIRECTORY.replace(r#""meta": {"#, r#""meta": { "externalAccountRequired": true,"#));
    let Payload::Signed { binding, .. } = talk.request().payload else { panic!() };
    assert_eq!(binding.as_deref(), Some("customer-7"));
    talk.answer_at(201, "https://ca.example/account/1", r#"{ "status": "valid" }"#);
    let Payload::Signed { binding, .. } = talk.request().payload else { panic!() };
    assert_eq!(binding, None, "the order is signed by the account alone");
}

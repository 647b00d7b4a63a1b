//! Saving between any two steps: the machine goes on where it was.

use super::*;

/// As a killed run leaves it and the next one finds it.
fn saved_and_read(talk: &mut Talk) {
    let saved = serde_json::to_string(&talk.machine).unwrap();
    talk.machine = serde_json::from_str(&saved).unwrap();
}

#[test]
fn an_order_saved_after_every_step_ends_as_one_that_was_not() {
    let key = rcgen::KeyPair::generate().unwrap();
    let pem = rcgen::CertificateParams::new(vec!["gullrock.example".into()]).unwrap().self_signed(&key).unwrap().pem();
    let valid = order("valid", r#", "certificate": "https://ca.example/certificate/1""#);
    let mut talk = Talk::new(None);
    let (mut orders, mut validated) = (0, false);
    for _ in 0..80 {
        saved_and_read(&mut talk);
        let request = match talk.machine.next(talk.now) {
            Step::Send(request) => request,
            Step::WaitUntil(until) => {
                talk.now = until;
                continue;
            }
            Step::PlaceProofs(proofs) => {
                assert_eq!(proofs.len(), 2);
                talk.machine.proofs_placed();
                continue;
            }
            Step::MakeRequest(_) => {
                talk.machine.request_made(b"request");
                continue;
            }
            Step::Finished { chain_pem } => {
                assert_eq!((chain_pem, orders), (pem, 1));
                return;
            }
            Step::Refused(refusal) => panic!("{refusal}"),
        };
        // The answer to a request for a nonce comes in the same run: nonces are not saved.
        let request = if request.payload == Payload::Head {
            talk.answer(200, "");
            talk.request()
        } else {
            request
        };
        let status = if validated { "valid" } else { "pending" };
        match request.url.trim_start_matches("https://ca.example/") {
            "directory" => talk.answer(200, DIRECTORY),
            "account" => talk.answer_at(201, "https://ca.example/account/1", "{}"),
            "order" => {
                orders += 1;
                talk.answer_at(201, "https://ca.example/order/1", &order("pending", ""));
            }
            "authorization/1" => talk.answer(200, &authorization(1, status)),
            "authorization/2" => talk.answer(200, &authorization(2, status)),
            "challenge/1" | "challenge/2" => {
                validated = true;
                talk.answer(200, "{}");
            }
            "finalize/1" | "order/1" => talk.answer(200, &valid),
            "certificate/1" => talk.answer(200, &pem),
            other => panic!("{other}"),
        }
    }
    panic!("it does not end");
}

#[test]
fn a_saved_order_that_was_spoilt_is_not_gone_on_with() {
    let talk = Talk::ordered("pending");
    assert!(talk.machine.is_sound());
    let mut saved = serde_json::to_value(&talk.machine).unwrap();
    saved["known"]["directory"] = serde_json::Value::Null;
    let spoilt: Machine = serde_json::from_value(saved).unwrap();
    assert!(!spoilt.is_sound());
}

#[test]
fn what_is_saved_names_the_state() {
    let talk = Talk::with_proofs();
    let saved = serde_json::to_value(&talk.machine).unwrap();
    assert!(saved["state"]["proofs"]["urls"]["order"].is_string(), "{saved}");
    assert!(saved.get("nonces").is_none());
}

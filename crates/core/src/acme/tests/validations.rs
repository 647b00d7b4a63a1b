//! Waiting for the validations.

use super::*;

#[test]
fn each_is_asked_until_it_is_decided() {
    let mut talk = Talk::answered();
    talk.post();
    talk.answer(200, &authorization(1, "pending"));
    assert!(matches!(talk.machine.next(talk.now), Step::WaitUntil(_)));
    assert_eq!(talk.post().0, "https://ca.example/authorization/1");
    talk.answer(200, &authorization(1, "valid"));
    assert_eq!(talk.post().0, "https://ca.example/authorization/2");
    talk.answer(200, &authorization(2, "valid"));
    assert!(matches!(talk.machine.next(talk.now), Step::MakeRequest(_)));
}

#[test]
fn all_names_that_fail_are_gathered_with_the_cas_words() {
    let mut talk = Talk::answered();
    for number in [1, 2] {
        talk.post();
        let error = format!(r#""token": "token-{number}", "error": {{ "detail": "refused {number}" }}"#);
        talk.answer(200, &authorization(number, "invalid").replace(&format!(r#""token": "token-{number}""#), &error));
    }
    let Refusal::Names(names) = talk.refusal() else { panic!() };
    let told: Vec<(&str, &str)> =
        names.iter().map(|(name, problem)| (name.name.as_str(), problem.detail.as_str())).collect();
    assert_eq!(told, [("gullrock.example", "refused 1"), ("www.gullrock.example", "refused 2")]);
}

#[test]
fn retry_after_is_honoured_and_patience_has_an_end() {
    let mut talk = Talk::answered();
    talk.post();
    talk.answer_with(200, &authorization(1, "processing"), |response| response.retry_after = Some("30".into()));
    assert_eq!(talk.machine.next(talk.now), Step::WaitUntil(after(&talk, 30)));
    for _ in 0..100 {
        if matches!(talk.machine.next(talk.now), Step::Refused(_)) {
            break;
        }
        talk.post();
        talk.answer(200, &authorization(1, "pending"));
    }
    assert!(matches!(talk.refusal(), Refusal::Slow { .. }));
}

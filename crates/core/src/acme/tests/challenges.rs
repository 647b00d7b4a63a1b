//! Answering the challenges.

use super::*;

#[test]
fn each_is_answered_with_an_empty_object_and_then_watched() {
    let mut talk = Talk::with_proofs();
    talk.machine.next(talk.now);
    talk.machine.proofs_placed();
    assert_eq!(talk.post(), ("https://ca.example/challenge/1".into(), "{}".into()));
    talk.answer(200, "{}");
    assert_eq!(talk.post().0, "https://ca.example/challenge/2");
    talk.answer(200, "{}");
    assert_eq!(talk.post(), ("https://ca.example/authorization/1".into(), String::new()));
}

//! Waiting for the proofs to be in place.

use super::*;

#[test]
fn nothing_is_sent_before_they_are() {
    let mut talk = Talk::with_proofs();
    for _ in 0..3 {
        assert!(matches!(talk.machine.next(talk.now), Step::PlaceProofs(_)));
    }
    talk.machine.proofs_placed();
    assert_eq!(talk.post().0, "https://ca.example/challenge/1");
}

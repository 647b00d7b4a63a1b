//! Waiting for the authorizations.

use super::*;

#[test]
fn each_is_read_and_gives_its_http_01_proof() {
    let mut talk = Talk::ordered("pending");
    assert_eq!(talk.post(), ("https://ca.example/authorization/1".into(), String::new()), "a POST-as-GET");
    talk.answer(200, &authorization(1, "pending"));
    assert_eq!(talk.post().0, "https://ca.example/authorization/2");
    talk.answer(200, &authorization(2, "pending"));
    let Step::PlaceProofs(proofs) = talk.machine.next(talk.now) else { panic!() };
    assert_eq!((proofs[0].token.as_str(), proofs[0].content.as_str()), ("token-1", "token-1.THUMB"));
    assert_eq!(proofs[1].challenge_url, "https://ca.example/challenge/2");
}

#[test]
fn what_is_valid_already_needs_no_proof() {
    let mut talk = Talk::ordered("pending");
    for number in [1, 2] {
        talk.post();
        talk.answer(200, &authorization(number, "valid"));
    }
    assert!(matches!(talk.machine.next(talk.now), Step::MakeRequest(_)));
}

#[test]
fn a_token_that_would_leave_the_proof_folder_is_refused() {
    for token in ["../../etc/passwd", "", "a/b", "a.b", "a\\u0000"] {
        let mut talk = Talk::ordered("pending");
        talk.post();
        talk.answer(200, &authorization(1, "pending").replace("token-1", token));
        assert!(matches!(talk.refusal(), Refusal::Names(_)), "{token}");
    }
}

#[test]
fn a_name_without_http_01_or_with_a_dead_authorization_is_named() {
    let mut talk = Talk::ordered("pending");
    talk.post();
    talk.answer(200, &authorization(1, "pending").replace("http-01", "tls-alpn-01"));
    let Refusal::Names(names) = talk.refusal() else { panic!() };
    assert_eq!(names[0].0.to_string(), "gullrock.example");
    let mut talk = Talk::ordered("pending");
    talk.post();
    talk.answer(200, &authorization(1, "deactivated"));
    assert!(matches!(talk.refusal(), Refusal::Names(names) if names[0].1.detail.contains("deactivated")));
}

#[test]
fn by_dns_the_proof_is_the_digest_for_a_txt_record() {
    let mut talk = Talk::ordered_for(Brief { proof: ProofWish::Dns01, ..brief() }, "pending");
    for number in [1, 2] {
        talk.post();
        talk.answer(200, &authorization(number, "pending"));
    }
    let Step::PlaceProofs(proofs) = talk.machine.next(talk.now) else { panic!() };
    assert_eq!(
        (proofs[0].kind, proofs[0].challenge_url.as_str()),
        (ProofKind::Dns01, "https://ca.example/challenge/9")
    );
    // printf other.THUMB | openssl dgst -sha256 -binary | base64url
    assert_eq!(proofs[0].content, "tHww60c11YfdsDiZxR_gFj4jwGZ4j1E4Vh7zEenr_rg");
}

#[test]
fn a_wildcard_is_proven_by_dns_and_the_names_beside_it_over_http() {
    let brief = Brief { wildcards: vec![crate::name::Hostname::parse("gullrock.example").unwrap()], ..brief() };
    let mut talk = Talk::ordered_for(brief, "pending");
    talk.post();
    talk.answer(200, &authorization(1, "pending"));
    talk.post();
    let of_wildcard = authorization(1, "pending").replace(r#""challenges""#, r#""wildcard": true, "challenges""#);
    talk.answer(200, &of_wildcard);
    let Step::PlaceProofs(proofs) = talk.machine.next(talk.now) else { panic!() };
    let told: Vec<_> = proofs.iter().map(|proof| (proof.kind, proof.identifier.to_string())).collect();
    let (plain, below) = ("gullrock.example".to_string(), "*.gullrock.example".to_string());
    assert_eq!(told, [(ProofKind::Http01, plain), (ProofKind::Dns01, below)]);
}

#[test]
fn an_authorization_for_what_was_not_ordered_is_refused() {
    for other in ["lanternchoir.example", "..", "a.gullrock.example"] {
        let mut talk = Talk::ordered("pending");
        talk.post();
        talk.answer(200, &authorization(1, "pending").replace("gullrock.example", other));
        assert!(matches!(talk.refusal(), Refusal::Unexpected { what, .. } if what.contains(other)), "{other}");
    }
}

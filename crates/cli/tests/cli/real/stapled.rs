//! Answers about one certificate, as OpenSSL gives them: stapled by `s_server`, or asked of the responder that it names.

use std::fs;
use std::path::Path;
use std::sync::atomic::Ordering;

use serde_json::Value;

use super::authority::{Authority, check, has};
use crate::coast::Coast;

const ITSELF: &str = "-rsigner ca.pem -rkey ca.key -ndays 1";
const APPOINTED: &str = "-rsigner responder.pem -rkey responder.key -ndays 1";

fn status<'a>(server: &'a Value, of: &str) -> (&'a str, &'a str) {
    let text = |member: &str| server[of][member].as_str().unwrap_or_default();
    (text("status"), text("words"))
}

#[test]
fn a_stapled_answer_is_read_and_one_that_does_not_count_is_a_fault() {
    let authority = Authority::with_responder();
    let stapled = |of: &str, options: &str| {
        authority.staple("staple", of, options);
        let (_server, address) = authority.serve_with(&["-status_file", "staple"]);
        check(address, Path::new("/nowhere"))
    };
    for options in [ITSELF, APPOINTED] {
        let server = stapled("leaf.pem", options);
        assert_eq!(status(&server, "staple").0, "good", "{options}: {server}");
        assert_eq!(status(&server, "revocation").0, "good");
        assert!(!has(&server, "staple-worthless") && !has(&server, "served-revoked"), "{server}");
    }
    assert_eq!(authority.fetched.load(Ordering::SeqCst), 0, "what is stapled need not be asked for");
    let worthless = [
        ("other.pem", ITSELF, "about another certificate"),
        ("leaf.pem", "-rsigner ca.pem -rkey ca.key -ndays 1 -badsig", "not signed by the issuer"),
        ("leaf.pem", "-rsigner other.pem -rkey other.key -ndays 1", "not signed by the issuer"),
    ];
    *authority.answering.lock().unwrap() = ITSELF.into();
    for (of, options, why) in worthless {
        let server = stapled(of, options);
        let (word, words) = status(&server, "staple");
        assert!(word == "unknown" && words.contains(why), "{why}: {server}");
        assert!(has(&server, "staple-worthless"), "{why}: {server}");
        assert_eq!(status(&server, "revocation").0, "good", "{why}: the CA itself is asked then");
    }

    authority.openssl("ca -revoke leaf.pem -crl_reason keyCompromise -config ca.cnf");
    let server = stapled("leaf.pem", APPOINTED);
    assert_eq!((status(&server, "staple").0, status(&server, "revocation").0), ("revoked", "revoked"), "{server}");
    assert!(has(&server, "served-revoked") && !has(&server, "staple-worthless"), "{server}");
}

#[test]
fn without_a_staple_and_a_list_the_responder_is_asked() {
    let authority = Authority::with_responder();
    let (_server, address) = authority.serve();
    let seen = |options: &str| {
        *authority.answering.lock().unwrap() = options.into();
        let server = check(address, Path::new("/nowhere"));
        assert!(server["staple"].is_null(), "{server}");
        let (word, words) = status(&server, "revocation");
        (word.to_string(), words.to_string(), has(&server, "served-revoked"))
    };
    let (word, words, _) = seen("");
    assert!(word == "unknown" && words.contains("answers 503"), "{words}");
    for options in [ITSELF, APPOINTED, "-rsigner ca.pem -rkey ca.key"] {
        assert_eq!(seen(options).0, "good", "{options}: {}", seen(options).1);
    }
    let (word, words, _) = seen("-rsigner other.pem -rkey other.key");
    assert!(word == "unknown" && words.contains("not signed by"), "{words}");
    // A responder of another CA, which knows none of these.
    let other = Authority::with_responder();
    for name in ["ca.pem", "ca.key"] {
        fs::copy(authority.path(name), authority.path(&format!("own-{name}"))).unwrap();
        fs::copy(other.path(name), authority.path(name)).unwrap();
    }
    let (word, words, _) = seen(ITSELF);
    assert!(word == "unknown", "{words}");
    for name in ["ca.pem", "ca.key"] {
        fs::copy(authority.path(&format!("own-{name}")), authority.path(name)).unwrap();
    }
    authority.openssl("ca -revoke leaf.pem -crl_reason keyCompromise -config ca.cnf");
    let (word, words, found) = seen(ITSELF);
    assert!(word == "revoked" && words.contains("revoked since") && found, "{words}");
}

/// Chains end before their root: the one that issued the leaf is found among those that the harbor trusts.
#[test]
fn a_leaf_that_is_sent_alone_is_asked_about_where_a_root_has_issued_it() {
    let authority = Authority::with_responder();
    *authority.answering.lock().unwrap() = ITSELF.into();
    let (_server, address) = authority.serve_with(&["-cert_chain", "leaf.pem"]);
    let coast = Coast::new();
    let (word, words) = ("not-asked", "not checked: the certificate of its issuer is missing in the chain");
    assert_eq!(status(&check(address, &coast.harbor()), "revocation"), (word, words));
    let roots = coast.path("ca-root.pem");
    let text = fs::read_to_string(&roots).unwrap() + &fs::read_to_string(authority.path("ca.pem")).unwrap();
    fs::write(&roots, text).unwrap();
    let server = check(address, &coast.harbor());
    assert_eq!((status(&server, "revocation").0, &server["trusted"]), ("good", &true.into()), "{server}");
    authority.openssl("ca -revoke leaf.pem -crl_reason keyCompromise -config ca.cnf");
    let server = check(address, &coast.harbor());
    assert!(status(&server, "revocation").0 == "revoked" && has(&server, "served-revoked"), "{server}");
}

#[test]
fn a_weak_key_is_told_as_a_weak_key_and_what_is_no_tls_in_words() {
    let authority = Authority::with_responder();
    authority.openssl(
        "req -x509 -newkey rsa:1024 -nodes -config ca.cnf -keyout weak.key -out weak.pem -days 10 -subj /CN=weak \
         -extensions leaf",
    );
    let weak = ["-cert", "weak.pem", "-key", "weak.key", "-cert_chain", "weak.pem", "-cipher", "DEFAULT@SECLEVEL=0"];
    let (_server, address) = authority.serve_with(&weak);
    let server = check(address, Path::new("/nowhere"));
    assert!(has(&server, "served-weak") && !has(&server, "tls-not-spoken"), "{server}");
    assert_eq!((server["key"].as_str(), server["failed"].as_str()), (Some("RSA 1024"), None));
    assert!(server["versions"].as_array().unwrap().iter().any(|version| version == "TLS 1.3"), "{server}");

    let (_old, address) = authority.serve_with(&["-tls1_1", "-cipher", "DEFAULT@SECLEVEL=0"]);
    let server = check(address, Path::new("/nowhere"));
    assert!(server["failed"].as_str().unwrap().contains("it speaks TLS 1.1 at most"), "{server}");
}

//! Redirects of a harbor: added, refused where they would go round, tried on the live server, ended by `tend`.

use serde_json::json;

use crate::coast::Coast;

#[test]
fn a_redirect_is_added_tried_shown_and_removed() {
    let coast = Coast::with_bakery();
    let add = ["redirect", "add", "crumbandtide.example/old", "https://quay.example/bread", "--prefix", "--keep-path"];
    let dry = coast.run(&[&add[..], &["--dry-run"]].concat()).expect(0);
    assert!(dry.contains("nothing was changed") && dry.contains("temporary: browsers ask again"), "{dry}");
    coast.run(&[&add[..], &["--permanent"]].concat()).expect(0);
    let listed = coast.json(&["redirect", "list"], 0);
    assert_eq!((&listed["redirects"][0]["path"], &listed["redirects"][0]["status"]), (&json!("/old"), &json!(301)));
    // The live server does what the model says: to https, then away with the rest of the path.
    let tried = coast.json(&["redirect", "try", "crumbandtide.example/old/rye?big"], 0);
    assert_eq!(tried["agree"], true, "{tried}");
    assert_eq!(tried["model"].as_array().unwrap().len(), 2);
    assert!(tried["model_end"].as_str().unwrap().ends_with("https://quay.example/bread/rye?big"), "{tried}");
    let shown = coast.run(&["redirect", "show", "crumbandtide.example/old"]).expect(0);
    assert!(shown.contains("with the rest of the path and the query"), "{shown}");
    let removed = coast.run(&["redirect", "remove", "crumbandtide.example/old"]).expect(0);
    assert!(removed.contains("browsers that visited may still follow it"), "{removed}");
    assert_eq!(coast.json(&["redirect", "try", "https://crumbandtide.example/"], 0)["model"], json!([]));
    assert!(coast.run(&["redirect", "remove", "crumbandtide.example/old"]).expect(4).contains("has no redirect"));
}

#[test]
fn what_would_go_round_or_cannot_be_is_refused() {
    let coast = Coast::with_bakery();
    let add = |arguments: &[&str]| coast.run(&[&["redirect", "add"], arguments].concat());
    let round = add(&["crumbandtide.example/a", "https://www.crumbandtide.example/a"]).expect(4);
    assert!(round.contains("loop:") && round.contains("/a -> https://"), "{round}");
    assert!(add(&["crumbandtide.example", "quay.example"]).expect(2).contains("https://quay.example"));
    assert!(add(&["gullrock.example", "https://quay.example/"]).expect(4).contains("is not attached"));
    assert!(add(&["crumbandtide.example/.well-known/acme-challenge/x", "/"]).expect(2).contains("never redirected"));
    assert!(add(&["crumbandtide.example/x\"; return 200", "/"]).expect(2).contains("cannot hold safely"));
    assert!(add(&["crumbandtide.example/a", "/b", "--status", "303"]).expect(2).contains("give 301, 302, 307 or 308"));
    add(&["crumbandtide.example/a", "/b"]).expect(0);
    assert!(add(&["crumbandtide.example/a", "/c"]).expect(4).contains("redirect remove crumbandtide.example/a"));
    let risky = add(&["crumbandtide.example/back", "http://quay.example/"]).expect(0);
    assert!(risky.contains("from https to http"), "{risky}");
    assert_eq!(coast.json(&["redirect", "list", "--with", "back"], 0)["redirects"].as_array().unwrap().len(), 1);
}

#[test]
fn all_sites_of_an_account_are_sent_away_until_a_day_that_tend_ends() {
    let coast = Coast::with_bakery();
    coast.run(&["attach", "shop.crumbandtide.example", "--account", "bakery"]).expect(0);
    let all = ["redirect", "add", "--all-of", "bakery", "https://quay.example/closed", "--until", "2020-01-01"];
    coast.run(&all).expect(0);
    assert_eq!(coast.json(&["redirect", "list", "--sort", "until"], 0)["redirects"].as_array().unwrap().len(), 2);
    let tended = coast.json(&["tend"], 0);
    assert_eq!(tended["ended"].as_array().unwrap().len(), 2, "{tended}");
    assert_eq!(coast.json(&["redirect", "list"], 0)["redirects"], json!([]));
}

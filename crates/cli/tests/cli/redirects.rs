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
    let ends = &tried["ends"];
    assert_eq!(
        (&ends["is"], &ends["url"]),
        (&json!("unreachable"), &json!("https://quay.example/bread/rye?big")),
        "{tried}"
    );
    let page = coast.run(&["redirect", "try", "crumbandtide.example"]).expect(0);
    assert!(page.starts_with("Visitors end at a page: https://crumbandtide.example"), "{page}");
    let missing = coast.run(&["redirect", "try", "crumbandtide.example/no-such-page"]).expect(0);
    assert!(missing.contains("which answers 404"), "{missing}");
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
    let round = add(&["crumbandtide.example/a", "https://www.crumbandtide.example/a", "--with-twin"]).expect(4);
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
    let all = |until| ["redirect", "add", "--all-of", "bakery", "https://quay.example/closed", "--until", until];
    let past = coast.json(&all("2020-01-01"), 4);
    assert_eq!(past["error"]["code"], "until-past", "{past}");
    coast.run(&all("2099-01-01")).expect(0);
    assert_eq!(coast.json(&["redirect", "list", "--sort", "until"], 0)["redirects"].as_array().unwrap().len(), 2);
    // Nobody can wait for a day to end: what the inventory says is set back.
    let inventory = rusqlite::Connection::open(coast.harbor().join("inventory.sqlite")).unwrap();
    inventory.execute("UPDATE site SET rules = replace(rules, '2099-', '2020-')", []).unwrap();
    drop(inventory);
    let tended = coast.json(&["tend"], 0);
    assert_eq!(tended["ended"].as_array().unwrap().len(), 2, "{tended}");
    assert_eq!(coast.json(&["redirect", "list"], 0)["redirects"], json!([]));
}

#[test]
fn a_redirect_is_for_exactly_what_was_typed() {
    let coast = Coast::with_bakery();
    let add = |arguments: &[&str]| coast.run(&[&["redirect", "add"], arguments].concat());
    let goes = |url: &str| {
        let tried = coast.json(&["redirect", "try", url], 0);
        tried["model"].as_array().unwrap().last().map(|hop| hop["status"].clone())
    };
    // The root page alone, of this host alone.
    add(&["crumbandtide.example/", "/menu"]).expect(0);
    assert_eq!(goes("https://crumbandtide.example/"), Some(json!(302)));
    assert_eq!(goes("https://www.crumbandtide.example/"), None);
    assert_eq!(goes("https://crumbandtide.example/other"), None);
    // The whole host beside it is another one.
    let whole = add(&["www.crumbandtide.example", "https://quay.example/"]).expect(0);
    assert!(whole.contains("every page of www.crumbandtide.example"), "{whole}");
    assert_eq!(goes("https://www.crumbandtide.example/other"), Some(json!(302)));
    coast.run(&["redirect", "remove", "www.crumbandtide.example"]).expect(0);
    coast.run(&["redirect", "remove", "crumbandtide.example/"]).expect(0);
    // With the twin, until it is taken from one of them.
    add(&["www.crumbandtide.example/a", "https://Quay.example/a b", "--with-twin"]).expect(0);
    assert_eq!(goes("https://crumbandtide.example/a"), Some(json!(302)));
    let stays = coast.run(&["redirect", "remove", "crumbandtide.example/a"]).expect(0);
    assert!(stays.contains("www.crumbandtide.example/a still redirects to https://quay.example/a%20b"), "{stays}");
    assert_eq!(
        (goes("https://crumbandtide.example/a"), goes("https://www.crumbandtide.example/a")),
        (None, Some(json!(302)))
    );
    let changed = coast.json(&["redirect", "add", "crumbandtide.example/b", "https://Quay.example/b", "--dry-run"], 0);
    let codes: Vec<&str> =
        changed["change"]["remarks"].as_array().unwrap().iter().map(|one| one["code"].as_str().unwrap()).collect();
    assert_eq!(codes, ["target-written", "redirect-added"]);
    // What goes along is everything below.
    add(&["crumbandtide.example/old", "https://quay.example/", "--keep-path"]).expect(0);
    let listed = coast.json(&["redirect", "list", "--with", "/old"], 0);
    assert_eq!(
        (&listed["redirects"][0]["prefix"], &listed["redirects"][0]["with_twin"]),
        (&json!(true), &json!(false))
    );
}

//! Plans and accounts: limits that refuse, what is left, and removing without losing anything.

use serde_json::json;

use crate::coast::Coast;

#[test]
fn a_plan_limits_what_an_account_may_have() {
    let coast = Coast::new();
    let plan = |arguments: &[&str]| coast.run(&[&["plan"], arguments].concat());
    plan(&["add", "small", "--addon-domains", "1", "--subdomains", "1", "--alias-domains", "0", "--disk", "100"])
        .expect(0);
    plan(&["add", "middle", "--like", "small", "--addon-domains", "5", "--redirects", "any"]).expect(0);
    assert!(plan(&["add", "small"]).expect(4).contains("plan `small` already exists"));
    assert!(plan(&["add", "Big one"]).expect(2).contains("not a plan name"));
    assert!(plan(&["change", "small", "--redirects", "many"]).expect(2).contains("give a number, or `any`"));
    coast.run(&["account", "change", "bakery", "--plan", "small"]).expect(0);
    coast.delegate_here("crumbandtide.example");

    // Two addon domains in one call are one too many: nothing of it happens.
    let both = coast.run(&["attach", "crumbandtide.example", "gullrock.example", "--account", "bakery"]).expect(4);
    assert!(both.contains("has 0 addon domains, and its plan `small` allows 1"), "{both}");
    assert!(both.contains("brightharbor plan change small --addon-domains COUNT"), "{both}");
    coast.run(&["attach", "crumbandtide.example", "shop.crumbandtide.example", "--account", "bakery"]).expect(0);
    let alias = ["attach", "gullrock.example", "--same-as", "crumbandtide.example", "--account", "bakery"];
    assert!(coast.run(&alias).expect(4).contains("alias domains"));
    plan(&["change", "small", "--alias-domains", "1"]).expect(0);
    coast.run(&alias).expect(3);
    let shown = coast.run(&["account", "show", "bakery"]).expect(0);
    assert!(shown.contains("addon domains 1, 0 left of 1") && shown.contains("of 100 MiB"), "{shown}");
    let document = coast.json(&["account", "show", "bakery"], 0);
    let usage = json!({ "addon_domains": 1, "subdomains": 1, "alias_domains": 1, "redirects": 0 });
    assert_eq!(document["usage"], usage);

    plan(&["change", "small", "--redirects", "0"]).expect(0);
    let redirect = ["redirect", "add", "crumbandtide.example/a", "/b"];
    assert!(coast.run(&redirect).expect(4).contains("has 0 redirects, and its plan `small` allows 0"));
    assert!(plan(&["remove", "small"]).expect(4).contains("is used by bakery"));
    plan(&["remove", "middle"]).expect(0);
    assert_eq!(coast.json(&["plan", "list"], 0)["plans"].as_array().unwrap().len(), 1);
}

#[test]
fn an_account_goes_only_when_it_has_nothing_left_and_its_home_stays() {
    let coast = Coast::new();
    coast.run(&["attach", "crumbandtide.example", "--account", "bakery", "--bare"]).expect(3);
    let refused = coast.run(&["account", "remove", "bakery"]).expect(4);
    assert!(refused.contains("has 1 site and 1 zone"), "{refused}");
    assert!(refused.contains("brightharbor account remove bakery --sites detach"), "{refused}");
    coast.run(&["detach", "crumbandtide.example", "--zone", "remove"]).expect(0);
    coast.run(&["account", "change", "bakery", "--email", "new@saltmarsh.example"]).expect(0);
    assert!(coast.run(&["account", "change", "bakery", "--email", "none"]).expect(2).contains("not an e-mail address"));
    assert!(coast.run(&["account", "remove", "bakery"]).expect(0).contains("stays as it is"));
    assert!(coast.path("homes/bakery/www/crumbandtide.example/index.html").exists());
    assert!(coast.run(&["account", "show", "bakery"]).expect(4).contains("account `bakery` not found"));
}

#[test]
fn an_account_and_its_first_domain_in_one_call() {
    let coast = Coast::new();
    coast.delegate_here("lanternchoir.example");
    let add = ["account", "add", "--domain", "www.lanternchoir.example", "--email", "leader@lanternchoir.example"];
    let added = coast.run(&add).expect(0);
    assert!(added.contains("Created account lanternchoir"), "{added}");
    assert_eq!(added.matches(" holds ").count(), 6, "{added}");
    let listed = coast.json(&["site", "list", "--links", "--kind", "addon-domain", "--sort", "expiry"], 0);
    assert_eq!(
        (&listed["sites"][0]["account"], &listed["sites"][0]["stops_at"]),
        (&json!("lanternchoir"), &json!("all hold"))
    );
    let own =
        ["account", "add", "yard", "--domain", "gullrock.example", "--email", "yard@gullrock.example", "--dry-run"];
    assert!(coast.run(&own).expect(0).contains("lies on the account's own domain"));
    assert!(coast.run(&["account", "add", "--email", "a@saltmarsh.example"]).expect(2).contains("required"));
}

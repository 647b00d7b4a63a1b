//! Accounts: what they hand on when they go, where their homes lie, whose folders they are, who sold them.

use std::fs;

use serde_json::json;

use crate::coast::Coast;

#[test]
fn an_account_goes_with_its_sites_and_zones_and_its_home_stays() {
    let coast = Coast::with_bakery();
    coast.run(&["attach", "shop.crumbandtide.example", "--account", "bakery"]).expect(0);
    let remove = ["account", "remove", "bakery", "--sites", "detach"];
    let dry = coast.run(&[&remove[..], &["--dry-run"]].concat()).expect(0);
    assert!(dry.contains("remove account bakery") && dry.contains("remove zone crumbandtide.example"), "{dry}");
    coast.run(&remove).expect(0);
    assert_eq!(coast.json(&["account", "list"], 0)["accounts"], json!([]));
    assert_eq!(coast.json(&["zone", "list"], 0)["zones"], json!([]));
    assert!(!coast.harbor().join("zones/crumbandtide.example.zone").exists());
    assert!(coast.path("homes/bakery/www/shop.crumbandtide.example/index.html").exists());
}

#[test]
fn its_zones_can_be_left_to_another_account() {
    let coast = Coast::with_bakery();
    coast.run(&["attach", "shop.crumbandtide.example", "--account", "bakery"]).expect(0);
    coast.run(&["account", "add", "choir", "--email", "choir@saltmarsh.example"]).expect(0);
    let remove = ["account", "remove", "bakery", "--sites", "detach", "--zones-to"];
    assert!(coast.run(&[&remove[..], &["bakery"]].concat()).expect(2).contains("the account that is removed"));
    coast.run(&[&remove[..], &["choir"]].concat()).expect(0);
    let zones = coast.json(&["zone", "list"], 0)["zones"].clone();
    assert_eq!((&zones[0]["zone"], &zones[0]["account"]), (&json!("crumbandtide.example"), &json!("choir")));
    // Both sites were edited out of the one zone.
    let zone = fs::read_to_string(coast.harbor().join("zones/crumbandtide.example.zone")).unwrap();
    assert!(!zone.contains("\nwww\t") && !zone.contains("\nshop\t"), "{zone}");
    coast.run(&["attach", "crumbandtide.example", "--account", "choir"]).expect(0);
}

#[test]
fn a_zone_that_still_holds_attached_names_does_not_go() {
    let coast = Coast::with_bakery();
    coast.run(&["attach", "shop.crumbandtide.example", "--account", "bakery"]).expect(0);
    let refused = coast.run(&["detach", "crumbandtide.example", "--zone", "remove"]).expect(4);
    assert!(refused.contains("it still holds shop.crumbandtide.example"), "{refused}");
    coast.run(&["detach", "crumbandtide.example", "shop.crumbandtide.example", "--zone", "remove"]).expect(0);
    assert_eq!(coast.json(&["zone", "list"], 0)["zones"], json!([]));
}

#[test]
fn sites_follow_a_home_that_was_moved() {
    let coast = Coast::with_bakery();
    let (old, new) = (coast.path("homes/bakery"), coast.path("homes/oven"));
    let change = ["account", "change", "bakery", "--home", new.to_str().unwrap()];
    let refused = coast.run(&change).expect(4);
    assert!(refused.contains("would have no pages") && refused.contains("mv "), "{refused}");
    fs::rename(&old, &new).unwrap();
    coast.run(&change).expect(0);
    assert!(!old.exists());
    let site = coast.json(&["site", "show", "crumbandtide.example"], 0)["site"].clone();
    assert_eq!(site["document_root"], new.join("www/crumbandtide.example").display().to_string());
    coast.run(&["survey", "crumbandtide.example"]).expect(0);
    assert!(coast.run(&["account", "change", "bakery", "--home", "/"]).expect(4).contains("next:"));
}

#[test]
fn resellers_are_accounts_without_circles() {
    let coast = Coast::new();
    let add = |name: &str, more: &[&str]| {
        let base = ["account", "add", name, "--email", "yard@saltmarsh.example"];
        coast.run(&[&base[..], more].concat())
    };
    add("boatyard", &["--reseller", "bakery"]).expect(0);
    add("choir", &["--reseller", "boatyard"]).expect(0);
    assert!(add("quay", &["--reseller", "nobody"]).expect(4).contains("account `nobody` not found"));
    let circle = coast.run(&["account", "change", "bakery", "--reseller", "choir"]).expect(4);
    assert!(circle.contains("would be its own reseller"), "{circle}");
    let sold = coast.json(&["account", "list", "--reseller", "bakery"], 0);
    assert_eq!((&sold["accounts"][0]["name"], &sold["accounts"][1]), (&json!("boatyard"), &json!(null)));
    let refused = coast.run(&["account", "remove", "bakery"]).expect(4);
    assert!(refused.contains("is the reseller of 1 account"), "{refused}");
    coast.run(&["account", "change", "boatyard", "--reseller", "none"]).expect(0);
    coast.run(&["account", "remove", "bakery"]).expect(0);
    assert!(add("quay", &["--nameserver-set", "deep"]).expect(4).contains("nameserver set `deep` not found"));
}

#[test]
fn a_system_user_is_made_on_request_and_taken_back_with_what_fails() {
    let coast = Coast::new();
    let user = format!("quay{}", std::process::id());
    let add = |more: &[&str]| {
        let base = ["account", "add", "boatyard", "--email", "yard@saltmarsh.example", "--system-user"];
        coast.run(&[&base[..], more].concat())
    };
    assert!(add(&["-r"]).exit == 2 && add(&["Root"]).expect(2).contains("not the name of a system user"));
    assert!(add(&[&user]).expect(4).contains("create it with --create-user"));
    if !brightharbor_io::install::is_root() {
        assert!(add(&[&user, "--create-user"]).expect(4).contains("only root can make"));
        return;
    }
    let known = || brightharbor_io::install::user_exists(&user);
    // The home's parent is missing: the user goes again with all the rest.
    let nowhere = coast.path("missing/boatyard");
    add(&[&user, "--create-user", "--home", nowhere.to_str().unwrap()]).expect(5);
    assert!(!known());
    add(&[&user, "--create-user"]).expect(0);
    assert!(known());
    let home = fs::metadata(coast.path("homes/boatyard")).unwrap();
    assert_ne!(std::os::unix::fs::MetadataExt::uid(&home), 0);
    let again = coast.run(&["account", "change", "bakery", "--system-user", &user, "--create-user"]).expect(4);
    assert!(again.contains("already exists"), "{again}");
    assert!(coast.run(&["account", "change", "bakery", "--system-user", &user]).expect(0).contains("chown -R -h"));
    assert!(std::process::Command::new("userdel").arg(&user).status().unwrap().success());
}

#[test]
fn a_home_that_exists_is_taken_on_request_alone_and_the_dry_run_says_so() {
    let coast = Coast::new();
    let home = coast.path("homes/boatyard");
    fs::create_dir(&home).unwrap();
    fs::write(home.join("plans.txt"), "boats").unwrap();
    let add = ["account", "add", "boatyard", "--email", "yard@saltmarsh.example"];
    assert!(coast.run(&add).expect(4).contains("take it as it is with --existing"));
    let dry = coast.run(&[&add[..], &["--existing", "--dry-run"]].concat()).expect(0);
    assert!(dry.contains("already exists; what is in it stays"), "{dry}");
    coast.run(&[&add[..], &["--existing"]].concat()).expect(0);
    assert_eq!(fs::read_to_string(home.join("plans.txt")).unwrap(), "boats");
    // A link in its place is no folder, wherever it leads.
    std::os::unix::fs::symlink(coast.path("homes"), coast.path("homes/quay")).unwrap();
    let link = ["account", "add", "quay", "--email", "quay@saltmarsh.example", "--existing"];
    assert!(coast.run(&link).expect(4).contains("overlaps"), "it leads to the homes of all");
}

#[test]
fn a_mailbox_on_the_accounts_own_domain_is_remarked_upon() {
    let coast = Coast::new();
    coast.run(&["attach", "gullrock.example", "--account", "bakery"]).expect(3);
    let change = |email: &str| coast.run(&["account", "change", "bakery", "--email", email]).expect(0);
    assert!(change("baker@mail.gullrock.example").contains("account's own domain"));
    assert!(!change("baker@lanternchoir.example").contains("own domain"));
}

#[test]
fn a_domain_goes_to_another_account_with_its_names_and_visitors_notice_nothing_of_https() {
    let coast = Coast::with_bakery();
    coast.done(&["attach", "shop.crumbandtide.example", "--account", "bakery"]);
    coast.run(&["account", "add", "choir", "--email", "choir@saltmarsh.example"]).expect(0);
    let serial = coast.json(&["zone", "show", "crumbandtide.example"], 0)["serial"].clone();
    let given = coast.run(&["site", "change", "crumbandtide.example", "--account", "choir"]).expect(0);
    assert!(given.contains("Handed over site shop.crumbandtide.example to account choir"), "{given}");
    let sites = coast.json(&["site", "list", "--account", "choir"], 0);
    let sites = sites["sites"].as_array().unwrap();
    assert_eq!(sites.len(), 2);
    for site in sites {
        assert!(site["document_root"].as_str().unwrap().contains("/homes/choir/"), "{site}");
        assert_eq!(site["https"], "forced", "{site}");
    }
    assert_eq!(coast.json(&["zone", "list", "--account", "choir"], 0)["zones"].as_array().unwrap().len(), 1);
    assert_eq!(coast.json(&["zone", "show", "crumbandtide.example"], 0)["serial"], serial, "no record has changed");
    assert_eq!(coast.json(&["survey", "shop.crumbandtide.example"], 0)["surveys"][0]["all_hold"], true);
    assert!(coast.path("homes/bakery/www/crumbandtide.example/index.html").exists(), "pages stay where they are");
    coast.run(&["account", "remove", "bakery"]).expect(0);
}

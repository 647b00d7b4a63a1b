//! Attaching in full: several names in one call, as people paste them, alias domains, given folders, aliases.

use std::fs;

use serde_json::json;

use crate::coast::Coast;

fn attach(coast: &Coast, arguments: &[&str]) -> crate::coast::Run {
    coast.run(&[&["attach", "--account", "bakery"], arguments].concat())
}

#[test]
fn several_names_in_one_call_as_they_were_pasted_with_one_reload() {
    let coast = Coast::new();
    coast.delegate_here("crumbandtide.example");
    coast.delegate_here("gullrock.example");
    let names = ["https://CrumbAndTide.example/bread?x", "shop.crumbandtide.example:443", "www.gullrock.example."];
    let attached = attach(&coast, &names).expect(0);
    assert!(attached.contains("`https://CrumbAndTide.example/bread?x` is taken as crumbandtide.example"), "{attached}");
    let entry = coast.json(&["logbook"], 0);
    let all = entry["entries"].as_array().unwrap();
    assert_eq!(all.iter().filter(|entry| entry["what"].as_str().unwrap().starts_with("attach ")).count(), 1, "{entry}");
    let zone = fs::read_to_string(coast.harbor().join("zones/crumbandtide.example.zone")).unwrap();
    assert_eq!(zone.matches("\nshop\t").count(), 1, "{zone}");
    let sites = coast.json(&["site", "list"], 0);
    let https: Vec<_> = sites["sites"].as_array().unwrap().iter().map(|site| &site["https"]).collect();
    assert_eq!(https, ["forced", "forced", "forced"], "{sites}");
    let near = attach(&coast, &["gulrock.example", "--dry-run"]).expect(0);
    assert!(near.contains("gulrock.example differs from gullrock.example"), "{near}");
    assert!(attach(&coast, &["co.uk"]).expect(4).contains("below it, such as bakery.co.uk"));
}

#[test]
fn an_alias_domain_shows_the_other_site_and_gets_into_its_certificate() {
    let coast = Coast::new();
    for domain in ["crumbandtide.example", "gullrock.example"] {
        coast.delegate_here(domain);
    }
    attach(&coast, &["crumbandtide.example"]).expect(0);
    assert!(attach(&coast, &["gullrock.example", "--same-as", "choir.example"]).expect(4).contains("is not attached"));
    let alias = attach(&coast, &["gullrock.example", "--same-as", "www.crumbandtide.example"]).expect(0);
    assert!(alias.contains("gullrock.example and www.gullrock.example as alias domain"), "{alias}");
    let sites = coast.json(&["site", "list"], 0);
    let site = &sites["sites"][0];
    assert_eq!((site["hostnames"].as_array().unwrap().len(), &site["https"]), (4, &json!("forced")), "{sites}");
    assert_eq!(site["certificate"]["names"].as_array().unwrap().len(), 4);
    assert_eq!(coast.json(&["redirect", "try", "http://gullrock.example/"], 0)["agree"], true);
}

#[test]
fn a_given_folder_and_a_www_policy() {
    let coast = Coast::new();
    coast.delegate_here("crumbandtide.example");
    fs::create_dir_all(coast.path("homes/bakery/ready")).unwrap();
    let given = ["crumbandtide.example", "--document-root", "ready", "--www", "to-bare"];
    assert!(attach(&coast, &given).expect(4).contains("serve what is in it with --existing"));
    assert!(attach(&coast, &["a.example", "--document-root", "/etc"]).expect(4).contains("outside the home"));
    attach(&coast, &[&given[..], &["--existing"]].concat()).expect(0);
    let tried = coast.json(&["redirect", "try", "http://www.crumbandtide.example/bread?x"], 0);
    assert_eq!((&tried["agree"], tried["model"].as_array().unwrap().len()), (&json!(true), 2), "{tried}");
    assert!(tried["live_end"].as_str().unwrap().starts_with("https://crumbandtide.example"), "{tried}");
    let inside = ["shop.crumbandtide.example", "--document-root", "ready/shop"];
    assert!(attach(&coast, &inside).expect(0).contains("overlaps that of crumbandtide.example"));
}

#[test]
fn a_name_that_a_content_network_serves_gets_an_alias_and_no_site() {
    let coast = Coast::new();
    coast.delegate_here("crumbandtide.example");
    attach(&coast, &["crumbandtide.example"]).expect(0);
    // What answers there is looked at over http and https; this one has no https.
    let cdn = attach(&coast, &["cdn.crumbandtide.example", "--served-by", "lanternchoir.example"]).expect(1);
    assert!(
        cdn.contains("to zone crumbandtide.example: cdn.crumbandtide.example. 3600 IN CNAME lanternchoir.example."),
        "{cdn}"
    );
    assert!(cdn.contains("an alias of lanternchoir.example, which leads to"), "{cdn}");
    let back = ["cdn2.crumbandtide.example", "--served-by", "cdn2.crumbandtide.example."];
    assert!(attach(&coast, &back).expect(4).contains("leads back"));
    assert!(attach(&coast, &["gullrock.example", "--served-by", "a.example."]).expect(4).contains("zone"));
    assert_eq!(coast.json(&["site", "list"], 0)["sites"].as_array().unwrap().len(), 1);
}

#[test]
fn a_domain_that_is_only_kept_here_has_a_zone_and_no_site() {
    let coast = Coast::new();
    let kept = attach(&coast, &["gullrock.example", "--no-site", "--bare"]);
    assert!([1, 3].contains(&kept.exit) && kept.stdout.contains("zone without a site"), "{kept:?}");
    assert_eq!(coast.json(&["site", "list"], 0)["sites"], json!([]));
    assert_eq!(coast.json(&["zone", "list"], 0)["zones"][0]["records"], 3);
    assert!(attach(&coast, &["a.gullrock.example", "--no-site"]).expect(4).contains("record add"));
    // Attached later, it gets its addresses.
    let later = attach(&coast, &["gullrock.example"]);
    assert!(later.stdout.contains("zone gullrock.example: gullrock.example."), "{later:?}");
}

#[test]
fn a_preview_shows_the_site_before_its_delegation_moves() {
    let coast = Coast::new();
    let preview = ["crumbandtide.example", "--preview"];
    assert!(attach(&coast, &preview).expect(4).contains("provider-domains"));
    let file = coast.harbor().join("harbor.toml");
    let text = fs::read_to_string(&file).unwrap();
    fs::write(&file, text.replace("[sites]\n", "[sites]\nprovider-domains = [\"gullrock.example\"]\n")).unwrap();
    coast.run(&["account", "add", "provider", "--email", "hostmaster@saltmarsh.example"]).expect(0);
    coast.run(&["zone", "create", "gullrock.example", "--account", "provider"]).expect(0);
    coast.delegate_here("gullrock.example");
    let attached = attach(&coast, &preview);
    assert_eq!(attached.exit, 3, "{attached:?}");
    let sites = coast.json(&["site", "list"], 0);
    let names = ["crumbandtide.example", "www.crumbandtide.example", "crumbandtide-example.gullrock.example"];
    assert_eq!(sites["sites"][0]["hostnames"], json!(names));
    // It has https at once, while the real name still leads elsewhere.
    let survey = coast.json(&["survey", "crumbandtide-example.gullrock.example"], 0);
    let links = survey["surveys"][0]["links"].as_array().unwrap();
    assert!(links.iter().all(|link| link["state"] == "holds"), "{survey}");
    let hosts: Vec<(&str, &str)> = sites["sites"][0]["hosts"]
        .as_array()
        .unwrap()
        .iter()
        .map(|host| (host["host"].as_str().unwrap(), host["https"].as_str().unwrap()))
        .collect();
    assert_eq!(hosts, [(names[0], "none"), (names[1], "none"), (names[2], "forced")]);
    let real = coast.json(&["survey", "crumbandtide.example"], 3);
    assert_eq!(real["surveys"][0]["links"][1]["state"], "broken", "{real}");
}

#[test]
fn hostnames_come_from_a_file_and_a_wrong_one_is_told_with_its_line() {
    let coast = Coast::with_bakery();
    let path = coast.path("names.txt");
    std::fs::write(&path, "# of the bakery\nquay.example\nhttps://shop.crumbandtide.example/cart  # as pasted\n")
        .unwrap();
    let attach = ["attach", "--account", "bakery", "--zone", "elsewhere", "--from-file", path.to_str().unwrap()];
    coast.done(&attach);
    let sites = coast.json(&["site", "list"], 0)["sites"].clone();
    assert_eq!(sites.as_array().map(Vec::len), Some(3), "{sites}");
    std::fs::write(&path, "pier.example\nbo..at.example\n").unwrap();
    let refused = coast.json(&attach, 2);
    assert!(refused["error"]["message"].as_str().unwrap().contains("names.txt:2: "), "{refused}");
    std::fs::write(&path, "# none\n").unwrap();
    coast.json(&attach, 2);
    assert_eq!(coast.json(&["site", "list"], 0)["sites"], sites);
}

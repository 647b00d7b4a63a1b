//! The whole way on the stand-ins: from a domain that is delegated elsewhere to a served, secured hostname.

use crate::coast::Coast;

fn links(value: &serde_json::Value) -> Vec<(String, String)> {
    let links = value["links"].as_array().unwrap().iter();
    let text = |value: &serde_json::Value| value.as_str().unwrap().to_string();
    links.map(|link| (text(&link["link"]), text(&link["state"]))).collect()
}

fn states(value: &serde_json::Value) -> Vec<String> {
    links(value).into_iter().map(|(_, state)| state).collect()
}

#[test]
fn one_domain_from_elsewhere_to_served_and_secured() {
    let coast = Coast::new();
    let attached = coast.json(&["attach", "CrumbAndTide.example.", "--account", "bakery"], 3);
    let survey = &attached["surveys"][0];
    assert_eq!(survey["stops_at"], "delegated");
    assert_eq!(states(survey), ["holds", "broken", "broken", "broken", "waiting", "broken"]);
    let delegated = &survey["links"][1];
    assert_eq!(delegated["turn"], "registrar");
    assert_eq!(
        delegated["values"],
        serde_json::json!(["nameserver ns1.saltmarsh.example", "nameserver ns2.saltmarsh.example"])
    );
    let page = std::fs::read_to_string(coast.path("homes/bakery/www/crumbandtide.example/index.html")).unwrap();
    assert!(page.contains("crumbandtide.example"), "{page}");

    let waiting = coast.json(&["tend"], 3);
    assert_eq!(waiting["tried"][0]["outcome"], "not-yet");

    coast.delegate_here("crumbandtide.example");
    let tended = coast.json(&["tend"], 0);
    assert_eq!(tended["tried"][0]["outcome"], "served");
    assert_eq!(tended["tried"][0]["new"], true);
    assert_eq!(tended["tried"][0]["names"], serde_json::json!(["crumbandtide.example", "www.crumbandtide.example"]));
    assert!(coast.run(&["tend"]).expect(0).contains("Nothing is pending"));

    // A second order is not placed for what is served already.
    let again = coast.done(&["certificate", "issue", "www.crumbandtide.example"]);
    assert_eq!(again["certificate"]["new"], false);

    // The names of the domain, asked for the first time here, have no old answer in any cache.
    let shop = coast.json(&["attach", "shop.crumbandtide.example", "--account", "bakery"], 0);
    assert_eq!(shop["certificate"]["new"], true);
    assert_eq!(states(&shop["surveys"][0]), ["holds"; 6]);
    let records = coast.json(&["record", "list", "crumbandtide.example"], 0);
    let owners: Vec<&str> =
        records["records"].as_array().unwrap().iter().map(|record| record["owner"].as_str().unwrap()).collect();
    assert!(owners.contains(&"shop.crumbandtide.example."), "{owners:?}");

    let sites = coast.json(&["site", "list"], 0);
    assert_eq!(sites["sites"][0]["https"], "forced");
    assert_eq!(sites["sites"][1]["kind"], "subdomain");
    let logbook = coast.json(&["logbook"], 0);
    assert!(logbook["entries"].as_array().unwrap().iter().all(|entry| entry["outcome"] == "done"), "{logbook}");
    assert!(!logbook.to_string().contains("PRIVATE KEY"));
}

#[test]
fn a_cache_with_the_old_answer_is_waited_for_and_not_blamed() {
    let coast = Coast::new();
    coast.run(&["attach", "lanternchoir.example", "--account", "bakery"]).expect(3);
    coast.delegate_here("lanternchoir.example");
    coast.run(&["tend"]).expect(0);
    let survey = coast.json(&["survey", "lanternchoir.example"], 3);
    let resolves = &survey["surveys"][0]["links"][2];
    assert_eq!((&resolves["state"], &resolves["turn"]), (&"waiting".into(), &"caches".into()));
    let until = resolves["until"].as_str().unwrap().to_string();
    // The bound is true: at that time, and not only some time later, the link holds.
    let until: jiff::Timestamp = until.parse().unwrap();
    let left = until.duration_since(jiff::Timestamp::now());
    assert!(left.as_secs() <= 6, "{left}");
    std::thread::sleep(std::time::Duration::try_from(left).unwrap_or_default());
    assert_eq!(states(&coast.json(&["survey", "lanternchoir.example"], 0)["surveys"][0]), ["holds"; 6]);
}

#[test]
fn a_zone_that_stays_elsewhere_gets_exact_records_to_enter() {
    let coast = Coast::new();
    let attached = coast.json(&["attach", "gullrock.example", "--account", "bakery", "--zone", "elsewhere"], 3);
    let survey = &attached["surveys"][0];
    // The old host has one nameserver: that works, and is fragile.
    assert_eq!((&survey["links"][1]["state"], &survey["stops_at"]), (&"risk".into(), &"resolves".into()));
    assert_eq!(survey["links"][2]["turn"], "dns-host");
    let record = format!("gullrock.example. 3600 IN {} {}", coast.address_type(), coast.world.cast.web());
    assert_eq!(survey["links"][2]["values"], serde_json::json!([record]));
    assert!(!coast.harbor().join("zones/gullrock.example.zone").exists());
}

#[test]
fn a_name_that_does_not_lead_here_is_left_out_of_the_certificate() {
    let coast = Coast::new();
    coast.run(&["attach", "gullrock.example", "--account", "bakery"]).expect(3);
    // The customer points www somewhere else, by hand, in the zone file.
    let path = coast.harbor().join("zones/gullrock.example.zone");
    let zone = std::fs::read_to_string(&path).unwrap();
    let (here, elsewhere) = (coast.world.cast.web().to_string(), coast.world.cast.old_web().to_string());
    let kind = coast.address_type();
    let edited = zone.replace(&format!("www\tIN\t{kind}\t{here}"), &format!("www\tIN\t{kind}\t{elsewhere} ; by hand"));
    assert_ne!(zone, edited);
    std::fs::write(&path, edited).unwrap();
    coast.delegate_here("gullrock.example");
    coast.run(&["account", "add", "other", "--email", "other@saltmarsh.example"]).expect(0);
    // Any change makes the DNS host read its zones again.
    coast.run(&["attach", "driftwood.example", "--account", "other"]).expect(3);
    let issued = coast.json(&["certificate", "issue", "gullrock.example"], 3);
    assert_eq!(issued["certificate"]["names"], serde_json::json!(["gullrock.example"]));
    let left_out = &issued["certificate"]["left_out"][0];
    assert_eq!(left_out["name"], "www.gullrock.example");
    assert!(left_out["reason"].as_str().unwrap().contains(&elsewhere), "{left_out}");
    // http stays open for www, which would be sent to a warning page; the other is sent to https.
    let sites = coast.json(&["site", "list"], 0);
    assert_eq!(
        (&sites["sites"][1]["https"], &sites["sites"][1]["hosts"][1]["https"]),
        (&serde_json::json!("forced"), &serde_json::json!("none"))
    );
}

#[test]
fn a_domain_without_mail_says_so_in_its_zone_made_from_the_harbors_template() {
    let coast = Coast::new();
    let template = "$TTL 3600\n@ SOA {{primary}} {{hostmaster}} {{serial}} 14400 1800 2419200 300\n@ NS {{nameserver}}\n@ A {{address4}}\n@ AAAA {{address6}}\n@ MX {{mx}}\n@ TXT {{spf}}\n";
    std::fs::write(coast.harbor().join("templates/default.zone"), template).unwrap();
    coast.run(&["attach", "gullrock.example", "--account", "bakery", "--mail", "none", "--bare"]).expect(3);
    let zone = std::fs::read_to_string(coast.harbor().join("zones/gullrock.example.zone")).unwrap();
    // A line whose address the harbor does not have is left out.
    let other = if coast.address_type() == "A" { "@ AAAA" } else { "@ A " };
    assert!(zone.ends_with("@ MX 0 .\n@ TXT \"v=spf1 -all\"\n") && !zone.contains(other), "{zone}");
}

#[test]
fn delegation_is_checked_without_a_harbor() {
    let coast = Coast::empty();
    let root = std::net::SocketAddr::new(coast.world.cast.root(), coast.world.cast.dns_port).to_string();
    let arguments = ["delegation", "check", "www.crumbandtide.example", "--root-server", &root];
    let text = coast.run(&arguments).expect(0);
    assert!(text.contains("lies in the domain crumbandtide.example"), "{text}");
    assert!(text.contains("1 of 1 servers answer with authority") && text.contains("serial 41"), "{text}");
    let with = |more: &[&str], exit| coast.json(&[&arguments[..], more].concat(), exit);
    let checked = with(&["--expect", "ns1.saltmarsh.example"], 1);
    assert_eq!(checked["domains"][0]["findings"][0]["code"], "nameservers-not-as-expected");
    assert_eq!(checked["domains"][0]["delegated_to"], serde_json::json!(["ns1.oldquay.example"]));
    let nobody = ["delegation", "check", "driftwood.example", "--root-server", &root];
    assert_eq!(coast.json(&nobody, 1)["domains"][0]["findings"][0]["code"], "not-registered");
    let silent = ["delegation", "check", "gullrock.example", "--root-server", "127.0.0.1:9"];
    assert_eq!(coast.json(&silent, 1)["domains"][0]["findings"][0]["code"], "parent-not-reached");
    coast.delegate_here("gullrock.example");
    let refusing = ["delegation", "check", "gullrock.example", "--root-server", &root];
    let refused = &coast.json(&refusing, 1)["domains"][0];
    assert_eq!(refused["findings"][0]["code"], "server-refuses");
    assert_eq!(refused["nameservers"][0]["servers"][0]["state"], "refuses");
}

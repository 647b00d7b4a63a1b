//! `zone realign` and `zone move` on zones that did not come from a template as others do: without a site, taken from a
//! file, broken. What was asked to be otherwise stays so.

use std::fs;

use serde_json::json;

use crate::coast::Coast;

/// Another address of the host, as an administrator would set it.
fn move_host(coast: &Coast) -> String {
    let file = coast.harbor().join("harbor.toml");
    let (old, new) = (coast.world.cast.web().to_string(), coast.nowhere());
    let text = fs::read_to_string(&file).unwrap();
    fs::write(&file, text.replace(&format!("addresses = [\"{old}\"]"), &format!("addresses = [\"{new}\"]"))).unwrap();
    new.to_string()
}

fn zone_text(coast: &Coast, zone: &str) -> String {
    fs::read_to_string(coast.harbor().join(format!("zones/{zone}.zone"))).unwrap()
}

#[test]
fn a_zone_without_a_site_gets_no_addresses_until_a_name_in_it_is_attached() {
    let coast = Coast::new();
    coast.run(&["attach", "gullrock.example", "--account", "bakery", "--no-site", "--bare"]);
    let before = zone_text(&coast, "gullrock.example");
    assert!(coast.run(&["zone", "realign"]).expect(0).contains("All zones match"), "no address is missed in it");
    coast.run(&["zone", "realign", "--all"]).expect(0);
    assert_eq!(zone_text(&coast, "gullrock.example"), before);
    // Another kind of mail makes it anew by its template, still without addresses.
    coast.run(&["zone", "change", "gullrock.example", "--mail", "none", "--yes"]);
    let old = coast.world.cast.web().to_string();
    assert!(!zone_text(&coast, "gullrock.example").contains(&old), "{}", zone_text(&coast, "gullrock.example"));

    // Attached later, its addresses follow the host's.
    coast.run(&["attach", "gullrock.example", "--account", "bakery"]);
    assert_eq!(zone_text(&coast, "gullrock.example").matches(&old).count(), 2, "the domain and its www");
    let new = move_host(&coast);
    coast.run(&["zone", "realign", "--all"]).expect(0);
    let text = zone_text(&coast, "gullrock.example");
    assert_eq!((text.matches(&old).count(), text.matches(&new).count()), (0, 2), "{text}");
}

const IMPORTED: &str = "$ORIGIN gullrock.example.\n$TTL 600\n@ SOA ns1.farquay.example. host.farquay.example. 7 14400 1800 2419200 \
                        300\n@ NS ns1.farquay.example.\n@ NS ns2.farquay.example.\n@ A 192.0.2.80\n";

#[test]
fn a_zone_taken_from_a_file_moves_with_its_own_nameservers() {
    let coast = Coast::new();
    let file = coast.path("gullrock.zone");
    fs::write(&file, IMPORTED).unwrap();
    coast
        .run(&["zone", "create", "gullrock.example", "--account", "bakery", "--from", file.to_str().unwrap()])
        .expect(0);
    assert_eq!(zone_text(&coast, "gullrock.example"), IMPORTED);

    // It matches no template, and is not said to.
    let looked = coast.run(&["zone", "realign"]).expect(0);
    assert!(
        looked.contains("No zone came from a template") && looked.contains("1 zone came from no template"),
        "{looked}"
    );

    let moved = coast.json(&["zone", "move", "gullrock.example", "--to", "host", "--yes"], 3);
    let words = |key: &str| moved["zones"][0][key].as_array().unwrap().len();
    assert_eq!((words("removed"), words("added")), (2, 2), "{moved}");
    let text = zone_text(&coast, "gullrock.example");
    assert!(!text.contains("farquay") && text.contains("ns1.saltmarsh.example."), "{text}");
    assert!(text.contains("@ A 192.0.2.80\n"), "all else is as it was: {text}");
    assert_eq!(coast.json(&["zone", "move", "gullrock.example", "--to", "host"], 0)["zones"], json!([]));
}

#[test]
fn a_zone_that_cannot_be_read_is_not_called_in_step() {
    let coast = Coast::new();
    for zone in ["gullrock.example", "crumbandtide.example"] {
        coast.run(&["zone", "create", zone, "--account", "bakery"]).expect(0);
    }
    let file = coast.harbor().join("zones/gullrock.example.zone");
    let good = fs::read_to_string(&file).unwrap();
    fs::write(&file, good.replace(" SOA ", " SOAP ").replace("\tSOA\t", "\tSOAP\t")).unwrap();
    let looked = coast.run(&["zone", "realign"]).expect(1);
    assert!(
        looked.contains("1 zone could not be compared") && looked.contains("gullrock.example: not changed"),
        "{looked}"
    );
    fs::remove_file(&file).unwrap();
    let looked = coast.json(&["zone", "realign", "--all"], 1);
    assert_eq!(looked["zones"].as_array().unwrap().len(), 1, "{looked}");
    assert!(looked["zones"][0]["refused"].is_string(), "{looked}");
}

#[test]
fn zone_files_edited_by_hand_are_named_until_they_are_loaded() {
    let coast = Coast::new();
    for zone in ["gullrock.example", "crumbandtide.example"] {
        coast.run(&["zone", "create", zone, "--account", "bakery"]).expect(0);
    }
    let edited = || {
        let listed = coast.json(&["zone", "list"], 0);
        let all = listed["zones"].as_array().unwrap();
        let marked = all.iter().filter(|row| row["edited_by_hand"] == true).map(|row| row["zone"].to_string());
        (marked.collect::<Vec<_>>(), coast.json(&["tend"], 0)["edited_zones"].clone())
    };
    assert_eq!(edited(), (vec![], json!([])));

    let file = coast.harbor().join("zones/gullrock.example.zone");
    let text = fs::read_to_string(&file).unwrap();
    fs::write(&file, format!("{text}crane 300 IN TXT \"north quay\"\n")).unwrap();
    assert_eq!(edited(), (vec!["\"gullrock.example\"".to_string()], json!(["gullrock.example"])));
    let listed = coast.run(&["zone", "list"]).expect(0);
    assert!(listed.contains("file edited by hand since") && listed.contains("zone load"), "{listed}");
    let tended = coast.run(&["tend"]).expect(0);
    assert!(tended.contains("1 zone file edited by hand since last loaded from here"), "{tended}");

    coast.run(&["zone", "load", "gullrock.example"]).expect(0);
    assert_eq!(edited(), (vec![], json!([])), "loaded");
    let text = fs::read_to_string(&file).unwrap();
    fs::write(&file, text.replace("north quay", "south quay")).unwrap();
    coast.run(&["record", "add", "boat.gullrock.example", "TXT", "\"slip 4\""]).expect(0);
    assert_eq!(edited(), (vec![], json!([])), "any edit from here loads all that the file has");

    // What was taken back is nobody's edit, whatever serial it needed.
    fs::write(&file, fs::read_to_string(&file).unwrap().replace("south quay", "west quay")).unwrap();
    let broken = fs::read_to_string(&file).unwrap() + "crane IN A 192.0.2.1 192.0.2.2\n";
    fs::write(&file, &broken).unwrap();
    coast.run(&["zone", "load", "gullrock.example"]).expect(1);
    assert_eq!(coast.json(&["tend"], 0)["edited_zones"], json!(["gullrock.example"]), "still somebody's edit");
}

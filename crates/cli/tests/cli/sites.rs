//! Sites that are there: shown, changed, edited by hand, detached.

use std::fs;

use serde_json::json;

use crate::coast::{Coast, brightharbor, snapshot};

#[test]
fn a_site_is_shown_and_changed() {
    let coast = Coast::with_bakery();
    let change = |arguments: &[&str]| coast.run(&[&["site", "change", "www.crumbandtide.example"], arguments].concat());
    let shown = coast.run(&["site", "show", "crumbandtide.example"]).expect(0);
    assert!(shown.contains("https http redirects to https") && shown.contains("HSTS off"), "{shown}");
    assert!(change(&["--hsts", "soon"]).expect(2).contains("not a duration"));
    change(&["--www", "to-www", "--hsts", "26w", "--tls", "1.3"]).expect(0);
    let site = &coast.json(&["site", "show", "crumbandtide.example"], 0)["site"];
    assert_eq!(site["www"], "to-www", "{site}");
    assert_eq!((&site["hsts_seconds"], &site["tls_from"]), (&json!(15_724_800), &json!("1.3")));
    let checked = coast.json(&["certificate", "check", "www.crumbandtide.example"], 0);
    assert_eq!(
        (&checked["servers"][0]["versions"], &checked["servers"][0]["findings"]),
        (&json!(["TLS 1.3"]), &json!([]))
    );
    let tried = coast.json(&["redirect", "try", "https://crumbandtide.example/x"], 0);
    assert_eq!((&tried["agree"], tried["model"].as_array().unwrap().len()), (&json!(true), 1), "{tried}");
    change(&["--https", "offered", "--hsts", "off"]).expect(0);
    assert_eq!(coast.json(&["redirect", "try", "http://www.crumbandtide.example/"], 0)["model"], json!([]));
    assert!(change(&["--hsts", "1d"]).expect(4).contains("force https first"));
    // Securing again does not force what was not wished.
    coast.run(&["tend"]).expect(0);
    assert_eq!(coast.json(&["site", "list"], 0)["sites"][0]["https"], "offered");
    change(&["--document-root", "spring"]).expect(0);
    assert!(coast.path("homes/bakery/spring/index.html").exists());
    assert!(coast.path("homes/bakery/www/crumbandtide.example/index.html").exists(), "the old folder stays");
    assert!(change(&["--document-root", "/etc"]).expect(4).contains("outside the home"));
}

/// The web server serves another file than the settings would give: what is promised and what visitors get are compared.
#[test]
fn what_a_site_is_set_to_is_compared_with_what_is_served() {
    let coast = Coast::with_bakery();
    let file = coast.harbor().join("servers/plain/crumbandtide.example.json");
    let before = std::fs::read_to_string(&file).unwrap();
    coast.run(&["site", "change", "crumbandtide.example", "--hsts", "26w", "--tls", "1.3"]).expect(0);
    std::fs::write(&file, before).unwrap();
    // Any change makes the server read its files anew.
    coast.run(&["attach", "shop.crumbandtide.example", "--account", "bakery"]).expect(0);
    let checked = coast.json(&["certificate", "check", "crumbandtide.example"], 0);
    let codes: Vec<&str> =
        checked["servers"][0]["findings"].as_array().unwrap().iter().map(|one| one["code"].as_str().unwrap()).collect();
    assert_eq!(codes, ["older-tls-than-set", "hsts-not-as-set"], "{checked}");
}

#[test]
fn a_whole_site_is_detached_and_nothing_in_the_home_is_deleted() {
    let coast = Coast::with_bakery();
    coast.run(&["attach", "shop.crumbandtide.example", "--account", "bakery"]).expect(0);
    let homes = snapshot(&coast.path("homes"));
    let dry = coast.run(&["detach", "crumbandtide.example", "--dry-run"]).expect(0);
    assert!(dry.contains("Its pages stay in") && dry.contains("Its certificate stays in"), "{dry}");
    assert_eq!(coast.json(&["site", "list"], 0)["sites"].as_array().unwrap().len(), 2);
    let detached = coast.run(&["detach", "crumbandtide.example"]).expect(0);
    assert!(detached.contains("Removed from zone crumbandtide.example: 2 address records"), "{detached}");
    let sites = coast.json(&["site", "list"], 0);
    assert_eq!(sites["sites"][0]["hostnames"], json!(["shop.crumbandtide.example"]));
    let zone = fs::read_to_string(coast.harbor().join("zones/crumbandtide.example.zone")).unwrap();
    assert!(!zone.contains("\nwww\t") && zone.contains("\nshop\t"), "{zone}");
    assert_eq!(snapshot(&coast.path("homes")), homes);
    assert!(coast.run(&["detach", "crumbandtide.example"]).expect(4).contains("is not attached"));
    // It can be attached again, and is served from the pages that stayed.
    coast.run(&["attach", "crumbandtide.example", "--account", "bakery"]).expect(0);
}

#[test]
fn a_site_without_a_name_is_served_by_its_address() {
    let coast = Coast::with_bakery();
    // As it stands in a URL: an IPv6 address in brackets.
    let address = match coast.world.cast.web() {
        std::net::IpAddr::V6(address) => format!("[{address}]"),
        address => address.to_string(),
    };
    assert!(
        coast
            .run(&["attach", "--address", "192.0.2.77", "--account", "bakery"])
            .expect(4)
            .contains("is not listed under `addresses`")
    );
    let attach = ["attach", "--address", &address, "--account", "bakery"];
    let attached = coast.run(&attach).expect(0);
    assert!(attached.contains("as site by address") && attached.contains("served over http alone"), "{attached}");
    assert!(coast.run(&attach).expect(4).contains("already"));
    let listed = coast.json(&["site", "list", "--kind", "by-address", "--stops-at", "nowhere"], 0);
    assert_eq!(listed["sites"][0]["hostnames"], json!([address]));
    assert_eq!(coast.json(&["site", "list", "--stops-at", "any"], 0)["sites"], json!([]));
    coast.run(&["redirect", "add", &format!("{address}/old"), "/new"]).expect(0);
    let tried = coast.json(&["redirect", "try", &format!("http://{address}:{}/old", coast.world.cast.http_port)], 0);
    assert_eq!((&tried["agree"], &tried["model"][0]["status"]), (&json!(true), &json!(302)), "{tried}");
    coast.run(&["tend"]).expect(0);
    coast.run(&["site", "change", &address, "--document-root", "bare"]).expect(0);

    // A CA that certifies addresses (RFC 8738) is asked on purpose; the certificate is renewed as any other.
    let issued = coast.json(&["certificate", "issue", &address], 0);
    assert_eq!(issued["certificate"]["outcome"], "served", "{issued}");
    let links = coast.json(&["survey", &address], 0)["surveys"][0]["links"].clone();
    assert!(links.as_array().unwrap().iter().all(|link| link["state"] == "holds"), "{links}");
    assert_eq!(coast.json(&["site", "show", &address], 0)["site"]["https"], "forced");
    let listed = coast.json(&["certificate", "list"], 0)["certificates"].clone();
    assert!(listed.as_array().unwrap().iter().any(|row| row["names"] == json!([address])), "{listed}");
    coast.json(&["certificate", "renew", &address], 0);
    // Whoever asks for a name gets that of the name as before.
    coast.run(&["survey", "crumbandtide.example"]).expect(0);
    coast.run(&["detach", &address]).expect(0);
    assert_eq!(coast.json(&["site", "list"], 0)["sites"].as_array().unwrap().len(), 1);
}

#[test]
fn an_alias_domain_goes_with_its_zone_and_the_site_stays() {
    let coast = Coast::with_bakery();
    coast.delegate_here("gullrock.example");
    coast.run(&["attach", "gullrock.example", "--same-as", "crumbandtide.example", "--account", "bakery"]).expect(0);
    let zone_file = coast.harbor().join("zones/gullrock.example.zone");
    let zone = fs::read_to_string(&zone_file).unwrap() + "; a word of somebody\n";
    fs::write(&zone_file, &zone).unwrap();
    let detached = coast.run(&["detach", "gullrock.example", "--zone", "remove"]).expect(0);
    // Nothing that a person wrote goes without a copy.
    let copies: Vec<_> = fs::read_dir(coast.harbor().join("removed")).unwrap().map(|one| one.unwrap().path()).collect();
    assert!(detached.contains(&copies[0].display().to_string()), "{detached}");
    assert!(fs::read_to_string(&copies[0]).unwrap().ends_with("; a word of somebody\n"));
    assert!(detached.contains("Detached gullrock.example and www.gullrock.example from site"), "{detached}");
    assert!(!coast.harbor().join("zones/gullrock.example.zone").exists());
    let sites = coast.json(&["site", "list"], 0);
    assert_eq!(sites["sites"][0]["hostnames"].as_array().unwrap().len(), 2);
    assert_eq!(coast.json(&["zone", "list"], 0)["zones"].as_array().unwrap().len(), 1);
    assert_eq!(coast.json(&["redirect", "try", "http://crumbandtide.example/"], 0)["agree"], true);
}

#[test]
fn a_survey_tells_the_starter_page_from_content_and_looks_before_the_name_leads_there() {
    let coast = Coast::with_bakery();
    let lands = |arguments: &[&str]| {
        let surveyed = coast.run(&[&["survey"], arguments].concat());
        surveyed.stdout.split_whitespace().collect::<Vec<_>>().join(" ")
    };
    assert!(lands(&["crumbandtide.example"]).contains("which shows the starter page"));
    let root = coast.path("homes/bakery/www/crumbandtide.example");
    fs::write(root.join("index.html"), "<h1>Rye and spelt</h1>").unwrap();
    assert!(!lands(&["crumbandtide.example"]).contains("which shows"));
    fs::remove_file(root.join("index.html")).unwrap();
    assert!(lands(&["crumbandtide.example"]).contains("no page: is the folder empty?"));
    // Not delegated here yet: at our own address it answers already.
    coast.run(&["attach", "gullrock.example", "--account", "bakery"]).expect(3);
    let address = coast.world.cast.web().to_string();
    let at = lands(&["gullrock.example", "--at", &address]);
    assert!(at.contains("answers holds this site's configuration answers") && at.contains("delegated broken"), "{at}");
}

#[test]
fn output_that_cannot_be_written_is_an_error_and_a_closed_pipe_is_none() {
    let coast = Coast::with_bakery();
    for json in [&["--json"][..], &[]] {
        let full = fs::OpenOptions::new().write(true).open("/dev/full").unwrap();
        let mut command = brightharbor();
        command.args(["site", "list"]).args(json).env("BRIGHTHARBOR", coast.harbor()).stdout(full);
        let run = command.stderr(std::process::Stdio::piped()).spawn().unwrap().wait_with_output().unwrap();
        let text = String::from_utf8_lossy(&run.stderr).into_owned();
        assert_eq!(run.status.code(), Some(1), "{text}");
        assert!(text.contains("the output could not be written"), "{text}");
    }
    let (reader, writer) = std::io::pipe().unwrap();
    drop(reader);
    let status = brightharbor().args(["site", "list"]).env("BRIGHTHARBOR", coast.harbor()).stdout(writer).status();
    assert_eq!(status.unwrap().code(), Some(0));
}

#[test]
fn lists_have_a_row_a_line_in_a_pipe_with_the_document_root() {
    let coast = Coast::with_bakery();
    let name = "a-rather-long-name-for-a-shop.crumbandtide.example";
    coast.run(&["attach", name, "--account", "bakery"]).expect(0);
    let list = coast.run(&["site", "list"]);
    let rows: Vec<&str> = list.stdout.lines().collect();
    assert_eq!(rows.len(), 3, "{list:?}");
    let root = coast.path("homes/bakery/www").join(name);
    assert!(rows[1].starts_with(name) && rows[1].ends_with(&root.display().to_string()), "{list:?}");
}

#[test]
fn site_files_follow_changed_settings_all_or_some_and_tend_says_when_they_do_not() {
    let coast = Coast::with_bakery();
    coast.run(&["attach", "shop.crumbandtide.example", "--account", "bakery"]).expect(0);
    let right = coast.run(&["site", "realign"]).expect(0);
    assert!(right.contains("as they would be written now (2 sites checked)"), "{right}");
    let files = coast.harbor().join("servers/plain");
    let (main, shop) = (files.join("crumbandtide.example.json"), files.join("shop.crumbandtide.example.json"));
    let before = [fs::read(&main).unwrap(), fs::read(&shop).unwrap()];
    fs::remove_file(&shop).unwrap();
    // Written before the setting changed.
    let old = String::from_utf8(before[0].clone()).unwrap().replace("\"hsts\": null", "\"hsts\": 60");
    assert_ne!(old.as_bytes(), before[0]);
    fs::write(&main, &old).unwrap();
    let listed = coast.json(&["site", "realign"], 3);
    let states: Vec<&str> =
        listed["sites"].as_array().unwrap().iter().map(|one| one["state"].as_str().unwrap()).collect();
    assert_eq!(states, ["outdated", "missing"], "{listed}");
    assert_eq!(coast.json(&["tend"], 0)["out_of_step"].as_array().unwrap().len(), 2);
    coast.run(&["site", "realign", "shop.crumbandtide.example"]).expect(0);
    assert_eq!((fs::read(&shop).unwrap() == before[1], fs::read(&main).unwrap() == old.as_bytes()), (true, true));
    let dry = coast.run(&["site", "realign", "--all", "--dry-run"]).expect(0);
    assert!(dry.contains("- \"hsts\": 60"), "{dry}");
    coast.run(&["site", "realign", "--all"]).expect(0);
    assert_eq!(fs::read(&main).unwrap(), before[0]);
    assert_eq!(coast.json(&["tend"], 0)["out_of_step"], json!([]));
}

#[test]
fn detach_takes_back_whatever_attach_has_made() {
    let coast = Coast::with_bakery();
    let before = snapshot(&coast.harbor().join("zones"));
    let records = |before: &[(std::path::PathBuf, Vec<u8>)]| {
        let text = |(_, content): &(std::path::PathBuf, Vec<u8>)| String::from_utf8_lossy(content).into_owned();
        before
            .iter()
            .map(text)
            .flat_map(|text| text.lines().map(String::from).collect::<Vec<_>>())
            .filter(|line| !line.contains("serial") && !line.trim().starts_with("2026"))
            .collect::<Vec<_>>()
    };
    // An alias of a server elsewhere.
    let cdn = ["attach", "cdn.crumbandtide.example", "--account", "bakery", "--served-by", "edge.network.example"];
    coast.run(&cdn);
    let gone = coast.run(&["detach", "cdn.crumbandtide.example"]).expect(0);
    assert!(gone.contains("CNAME edge.network.example"), "{gone}");
    let now = snapshot(&coast.harbor().join("zones"));
    assert_eq!(records(&now).len(), records(&before).len());
    assert_eq!(coast.json(&["detach", "cdn.crumbandtide.example"], 4)["error"]["code"], "not-attached");
    // A zone alone.
    coast.done(&["attach", "gullrock.example", "--account", "bakery", "--no-site", "--bare"]);
    assert_eq!(coast.json(&["detach", "gullrock.example"], 4)["error"]["code"], "only-a-zone");
    coast.run(&["detach", "gullrock.example", "--zone", "remove"]).expect(0);
    assert!(!coast.harbor().join("zones/gullrock.example.zone").exists());
    // The www twin goes, and comes back with name and record.
    coast.run(&["detach", "www.crumbandtide.example"]).expect(0);
    assert_eq!(coast.json(&["survey", "crumbandtide.example"], 0)["surveys"][0]["all_hold"], true);
    coast.run(&["site", "change", "crumbandtide.example", "--www", "also"]).expect(0);
    let sites = coast.json(&["site", "list"], 0);
    assert_eq!(sites["sites"][0]["hostnames"], json!(["crumbandtide.example", "www.crumbandtide.example"]));
    coast.run(&["tend"]).expect(0);
    assert_eq!(coast.json(&["survey", "www.crumbandtide.example"], 0)["surveys"][0]["all_hold"], true);
}

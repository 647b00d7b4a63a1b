//! Sites that somebody else has made, where the files read here do not tell all of it: the running server is asked, and
//! listeners that take each other's visitors are told by every command that meets them.

use std::fs;

use serde_json::{Value, json};

use super::already_there::with_hand_written_site;
use super::voyage::Port;

fn codes(consents: &Value) -> Vec<&Value> {
    consents.as_array().unwrap().iter().map(|consent| &consent["code"]).collect()
}

fn link<'a>(survey: &'a Value, name: &str) -> &'a Value {
    survey["surveys"][0]["links"].as_array().unwrap().iter().find(|link| link["link"] == name).unwrap()
}

/// Edits harbor.toml, and gives it back as it was.
fn with_settings(port: &Port, edit: impl Fn(&str) -> bool) -> String {
    let toml = port.path("harbor/harbor.toml");
    let before = fs::read_to_string(&toml).unwrap();
    let kept: Vec<&str> = before.lines().filter(|line| !edit(line)).collect();
    fs::write(&toml, kept.join("\n")).unwrap();
    before
}

/// A block before all others, for names that nobody has: as Debian's own are.
fn with_default_block(port: &Port, file: &str, kind: &str) {
    let at = format!("{}:{}", port.world.cast.web(), port.world.cast.http_port);
    let main = fs::read_to_string(file).unwrap();
    let (before, block) = match kind {
        "nginx" => ("  server {\n", format!("  server {{ listen {at} default_server; return 404; }}\n")),
        _ => ("<VirtualHost ", format!("<VirtualHost {at}>\n  Redirect 404 /\n</VirtualHost>\n")),
    };
    fs::write(file, main.replacen(before, &format!("{block}{before}"), 1)).unwrap();
    port.reload_web();
}

fn the_running_server_is_asked(kind: &str) {
    let port = Port::new(kind);
    port.run(&["account", "add", "bakery", "--email", "baker@saltmarsh.example"]).expect(0);
    let (file, _) = with_hand_written_site(&port, kind);
    with_default_block(&port, &file, kind);
    let conf = if kind == "nginx" { "nginx.conf" } else { "apache.conf" };
    with_settings(&port, |line| line.starts_with("main-file") && line.contains(conf));

    // No file tells of it; the server does.
    let refused = port.json(&["attach", "gullrock.example", "--account", "bakery"], 4);
    assert_eq!(refused["error"]["code"], "consent-needed", "{refused}");
    let consent = &refused["error"]["consents"][0];
    assert_eq!((&consent["code"], &consent["hostname"]), (&json!("takes-over-name"), &json!("gullrock.example")));
    let shown = port.run(&["attach", "gullrock.example", "--account", "bakery", "--dry-run"]).expect(4);
    assert!(shown.contains("answers for gullrock.example already (200)"), "{shown}");
    // A name that has nothing of its own there is nothing to ask about; nor is one a moment after it was detached.
    for _ in 0..2 {
        port.json(&["attach", "driftwood.example", "--account", "bakery"], 3);
        port.json(&["detach", "driftwood.example", "--yes"], 0);
    }
    // A twin that comes back is asked about as well.
    port.json(&["attach", "www.old.example", "--account", "bakery", "--www", "none"], 3);
    let refused = port.json(&["site", "change", "www.old.example", "--www", "also"], 4);
    assert_eq!(codes(&refused["error"]["consents"]), ["takes-over-name"], "{refused}");
}

#[test]
fn nginx_is_asked_for_a_name_that_no_file_tells_of() {
    the_running_server_is_asked("nginx");
}

#[test]
fn apache_is_asked_for_a_name_that_no_file_tells_of() {
    the_running_server_is_asked("apache");
}

/// A hand-written site at every address.
fn at_all_addresses(port: &Port, kind: &str) {
    let (file, _) = with_hand_written_site(port, kind);
    let cast = &port.world.cast;
    let main = fs::read_to_string(&file).unwrap();
    let (one, all) = match kind {
        "nginx" => (format!("listen {}:{};\n    server_name old", cast.web(), cast.http_port), "0.0.0.0"),
        _ => (format!("<VirtualHost {}:{}>\n  ServerName old", cast.web(), cast.http_port), "*"),
    };
    fs::write(&file, main.replace(&one, &one.replace(&cast.web().to_string(), all))).unwrap();
}

fn the_first_site_asks_before_it_takes_an_address(kind: &str) {
    let port = Port::new(kind);
    port.run(&["account", "add", "bakery", "--email", "baker@saltmarsh.example"]).expect(0);
    at_all_addresses(&port, kind);
    let refused = port.json(&["attach", "crumbandtide.example", "--account", "bakery"], 4);
    assert_eq!(codes(&refused["error"]["consents"]), ["takes-visitors"], "{refused}");
    assert_eq!(refused["error"]["consents"][0]["address"], port.world.cast.web().to_string(), "{refused}");
    assert!(!port.path("homes/bakery/crumbandtide.example").exists(), "nothing was made");
    let checked = port.json(&["init", "--check"], 3);
    assert_eq!(checked["listener_clash"]["address"], port.world.cast.web().to_string(), "{checked}");
}

#[test]
fn the_first_site_on_nginx_asks_before_it_takes_an_address() {
    the_first_site_asks_before_it_takes_an_address("nginx");
}

#[test]
fn the_first_site_on_apache_asks_before_it_takes_an_address() {
    the_first_site_asks_before_it_takes_an_address("apache");
}

/// Somebody adds a virtual host at the one address while the sites here are at all.
#[test]
fn survey_names_the_block_that_takes_the_visitors_of_a_site() {
    let port = Port::new("apache");
    port.delegate_here("crumbandtide.example");
    port.run(&["account", "add", "bakery", "--email", "baker@saltmarsh.example"]).expect(0);
    let web = port.world.cast.web();
    let before = with_settings(&port, |line| line == format!("listen = [\"{web}\"]"));
    port.json(&["attach", "crumbandtide.example", "--account", "bakery"], 0);
    let (file, _) = with_hand_written_site(&port, "apache");
    let survey = port.json(&["survey", "crumbandtide.example"], 1);
    let answers = link(&survey, "answers");
    assert_eq!((&answers["code"], &answers["turn"]), (&json!("listener-clash"), &json!("administrator")), "{survey}");
    let because = answers["because"].as_str().unwrap();
    assert!(because.contains(&file) && because.contains(&format!("set listen = [\"{web}\"]")), "{because}");
    // What it says is a cure.
    fs::write(port.path("harbor/harbor.toml"), before).unwrap();
    port.json(&["site", "realign", "--all", "--yes"], 0);
    let survey = port.json(&["survey", "crumbandtide.example"], 0);
    assert_eq!(link(&survey, "answers")["code"], "answers", "{survey}");
}

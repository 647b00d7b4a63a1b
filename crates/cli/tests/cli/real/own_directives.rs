//! Directives that an administrator writes beside: in the site's own block, tested before each reload, blamed by file and
//! line, and nobody else's to write.

use std::fs;
use std::os::unix::fs::PermissionsExt;

use super::php_pools::page;
use super::voyage::Port;

const SITE: &str = "crumbandtide.example";

fn are_taken_in_and_blamed(kind: &str, good: &str, bad: &str) {
    let port = Port::new(kind);
    port.run(&["account", "add", "bakery", "--email", "baker@saltmarsh.example"]).expect(0);
    port.delegate_here(SITE);
    let attached = port.run(&["attach", SITE, "--account", "bakery"]);
    assert!([0, 3].contains(&attached.exit), "{attached:?}");
    port.tend_until_served();
    let own = port.path(&format!("harbor/own/{kind}/{SITE}.conf"));
    assert_eq!(page(&port, SITE, "/tides", vec![]).0, 404);

    // `tend` says that they are not taken in yet, and `site realign` takes them in.
    fs::write(&own, good).unwrap();
    assert_eq!(port.json(&["tend"], 0)["out_of_step"], serde_json::json!([SITE]));
    let realigned = port.json(&["site", "realign", SITE], 0);
    assert_eq!(realigned["sites"][0]["state"], "own-changed", "{realigned}");
    assert_eq!(page(&port, SITE, "/tides", vec![]).0, 410);
    assert_eq!(port.json(&["tend"], 0)["out_of_step"], serde_json::json!([]));
    assert_eq!(port.json(&["survey", SITE], 0)["exit"], 0, "they are part of the fingerprint");

    // What breaks them is named with its file and line, whatever command comes upon it, and visitors notice nothing.
    fs::write(&own, format!("{good}{bad}")).unwrap();
    for command in [&["site", "change", SITE][..], &["attach", "shop.crumbandtide.example", "--account", "bakery"]] {
        let refused = port.json(command, 5);
        let message = refused["error"]["message"].as_str().unwrap();
        let line = good.lines().count() + 1;
        let named = [format!("{}:{line}", own.display()), format!("line {line} of {}", own.display())];
        assert!(named.iter().any(|named| message.contains(named)), "{message}");
    }
    assert_eq!(page(&port, SITE, "/tides", vec![]).0, 410);

    // Nobody else may write them.
    fs::write(&own, good).unwrap();
    fs::set_permissions(&own, fs::Permissions::from_mode(0o666)).unwrap();
    if brightharbor_io::install::is_root() {
        assert_eq!(port.json(&["site", "change", SITE], 4)["error"]["code"], "others-may-change");
    }
    fs::set_permissions(&own, fs::Permissions::from_mode(0o644)).unwrap();

    // They stay when the site goes, and are there again when it comes back.
    port.json(&["detach", SITE], 0);
    assert!(own.exists());
    let attached = port.run(&["attach", SITE, "--account", "bakery", "--json"]);
    assert!(attached.stdout.contains("\"own-directives\""), "{attached:?}");
    port.tend_until_served();
    assert_eq!(page(&port, SITE, "/tides", vec![]).0, 410);
    fs::remove_file(&own).unwrap();
    let gone = port.json(&["site", "change", SITE], 0);
    assert!(gone["change"]["remarks"].to_string().contains("\"gone\":true"), "{gone}");
    assert_eq!(page(&port, SITE, "/tides", vec![]).0, 404);
}

#[test]
fn of_nginx() {
    let good = "# The tide tables have moved.\nlocation = /tides {\n    return 410;\n}\n";
    are_taken_in_and_blamed("nginx", good, "nonsense on;\n");
}

#[test]
fn of_apache() {
    are_taken_in_and_blamed("apache", "# The tide tables have moved.\nRedirect gone /tides\n", "Nonsense On\n");
}

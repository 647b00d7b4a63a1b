//! Servers that serve something already when the tool comes: what somebody else has written is found, named by file and
//! line, and nothing of it changes.

use std::fs;
use std::process::Command;

use brightharbor_core::zone::RecordType;

use super::monitor::{Asked, Monitor};
use super::servers::need;
use super::voyage::Port;

/// A site that an administrator has written by hand, into the server's main file.
pub fn with_hand_written_site(port: &Port, kind: &str) -> (String, usize) {
    let cast = &port.world.cast;
    let root = port.path("by-hand");
    fs::create_dir(&root).unwrap();
    fs::write(root.join("index.html"), "written by hand").unwrap();
    let (file, block) = match kind {
        "nginx" => (
            port.path("nginx/nginx.conf"),
            format!(
                "  server {{\n    listen {}:{};\n    server_name old.example\n      gullrock.example;\n    root {};\n  }}\n",
                cast.web(),
                cast.http_port,
                root.display()
            ),
        ),
        _ => (
            port.path("apache/apache.conf"),
            format!(
                "<Directory \"{root}\">\n  Require all granted\n</Directory>\n<VirtualHost {}:{}>\n  ServerName old.example\n  \
                 ServerAlias gullrock.example\n  DocumentRoot \"{root}\"\n</VirtualHost>\n",
                cast.web(),
                cast.http_port,
                root = root.display()
            ),
        ),
    };
    let main = fs::read_to_string(&file).unwrap();
    let edited = match kind {
        "nginx" => main.replacen("http {\n", &format!("http {{\n{block}"), 1),
        _ => main + &block,
    };
    fs::write(&file, &edited).unwrap();
    port.reload_web();
    let line = edited.lines().position(|line| line.contains("gullrock.example")).unwrap() + 1;
    (file.display().to_string(), line)
}

fn what_is_there_stays(kind: &str) {
    let port = Port::new(kind);
    port.run(&["account", "add", "bakery", "--email", "baker@saltmarsh.example"]).expect(0);
    let (file, line) = with_hand_written_site(&port, kind);
    // A zone in the DNS server's main file, by hand.
    let zone =
        "$TTL 300\n@ SOA ns1.saltmarsh.example. host.saltmarsh.example. 7 4h 30m 4w 5m\n@ NS ns1.saltmarsh.example.\n";
    let zone_file = port.path("bind/driftwood.zone");
    fs::write(&zone_file, format!("{zone}www A 192.0.2.77\n")).unwrap();
    let named = port.path("bind/named.conf");
    let main = fs::read_to_string(&named).unwrap();
    let definition = format!("zone \"driftwood.example\" {{ type primary; file \"{}\"; }};\n", zone_file.display());
    fs::write(&named, format!("{main}{definition}")).unwrap();
    let rndc = port.path("bind/rndc.conf");
    let done = Command::new(need("rndc", "bind9-utils")).arg("-c").arg(rndc).arg("reconfig").status().unwrap();
    assert!(done.success());

    let mut asked = vec![Asked::records("driftwood.example", "www.driftwood.example", RecordType::A)];
    asked.extend(["gullrock.example", "old.example"].map(|host| Asked::Page { host: host.into(), https: false }));
    let monitor = Monitor::start(&port.world.cast, &port.ca.root, asked);
    let refused = port.json(&["attach", "gullrock.example", "--account", "bakery"], 4);
    assert_eq!(refused["error"]["code"], "served-by-hand", "{refused}");
    assert_eq!((&refused["error"]["file"], &refused["error"]["line"]), (&file.into(), &line.into()), "{refused}");
    let refused = port.json(&["attach", "driftwood.example", "--account", "bakery"], 4);
    assert_eq!(refused["error"]["code"], "zone-defined", "{refused}");
    let at = format!("{}:{}", named.display(), main.lines().count() + 1);
    assert!(refused["error"]["message"].as_str().unwrap().contains(&at), "{at}: {refused}");
    // A listener that would take the visitors of all sites here is found before the first of them is made.
    let toml = port.path("harbor/harbor.toml");
    let settings = fs::read_to_string(&toml).unwrap();
    let listen = format!("listen = [\"{}\"]\n", port.world.cast.web());
    fs::write(&toml, settings.replace(&listen, "")).unwrap();
    let refused = port.json(&["attach", "crumbandtide.example", "--account", "bakery"], 4);
    assert_eq!(refused["error"]["code"], "listener-clash", "{refused}");
    let checked = port.run(&["init", "--check"]).expect(3);
    assert!(checked.contains(&format!("set listen = [\"{}\"] under [web]", port.world.cast.web())), "{checked}");
    fs::write(&toml, settings).unwrap();
    let checked = port.json(&["init", "--check"], 0);
    assert_eq!(checked["unset"], serde_json::json!(["[ca] contact"]), "{checked}");
    assert_eq!(checked["missing_modules"], serde_json::json!([]), "{checked}");
    if kind == "apache" {
        // Debian loads none of these by itself.
        let main_file = port.path("apache/apache.conf");
        let main = fs::read_to_string(&main_file).unwrap();
        let loaded = |line: &&str| !["headers_module", "rewrite_module"].iter().any(|module| line.contains(module));
        fs::write(&main_file, main.lines().filter(loaded).collect::<Vec<_>>().join("\n")).unwrap();
        let checked = port.json(&["init", "--check"], 3);
        assert_eq!(checked["missing_modules"], serde_json::json!(["headers_module", "rewrite_module"]), "{checked}");
        assert!(port.run(&["init", "--check"]).expect(3).contains("a2enmod headers rewrite"));
        fs::write(&main_file, main).unwrap();
    }
    // What is not there comes beside it, and takes nothing away.
    port.json(&["attach", "crumbandtide.example", "--account", "bakery"], 3);
    // Where the main file is not known, the server itself is asked.
    let settings = fs::read_to_string(&toml).unwrap();
    let without: Vec<&str> = settings.lines().filter(|line| !line.contains("named.conf")).collect();
    fs::write(&toml, without.join("\n")).unwrap();
    let refused = port.json(&["zone", "create", "driftwood.example", "--account", "bakery"], 4);
    assert_eq!(refused["error"]["code"], "zone-served", "{refused}");
    // What the control program only calls a failure is completed by the server's own checker.
    fs::write(&toml, &settings).unwrap();
    let broken = fs::read_to_string(&named).unwrap() + "zone \"quay.example\" { type sideways; };\n";
    fs::write(&named, &broken).unwrap();
    let failed = port.run(&["attach", "lanternchoir.example", "--account", "bakery"]).expect(5);
    assert!(failed.contains(&format!("{}:{}", named.display(), broken.lines().count())), "{failed}");
    monitor.found_nothing_worse("attaching beside what is there");
}

#[test]
fn what_is_there_stays_with_nginx_and_bind() {
    what_is_there_stays("nginx");
}

#[test]
fn what_is_there_stays_with_apache_and_bind() {
    what_is_there_stays("apache");
}

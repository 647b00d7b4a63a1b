//! Sites that run programs, through the commands: parts by path, how files are shown, what is refused.

use serde_json::json;

use crate::coast::Coast;

/// The content of a site that nobody has said anything about.
fn usual() -> serde_json::Value {
    json!({
        "parts": [], "protected": [], "index": [], "listing": false, "single_page": null, "missing_page": null, "cache": [],
        "front_script": false, "no_scripts": [], "htaccess": [], "body_limit_bytes": 20_971_520, "time_limit_seconds": 60,
        "own_directives": false,
    })
}

#[test]
fn a_program_answers_where_the_site_says_and_the_rest_is_files() {
    let coast = Coast::with_bakery();
    let program = coast.world.program();
    let tides = format!("/tides=http://{program}");
    let dry = coast.run(&["site", "change", "crumbandtide.example", "--serve", &tides, "--dry-run"]).expect(0);
    let shows = format!("/tides is answered by the program at {program}, everything else by files");
    let flat = |text: &str| text.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(flat(&dry).contains(&shows), "{dry}");
    let changed = coast.json(&["site", "change", "crumbandtide.example", "--serve", &tides], 0);
    let remark = &changed["change"]["remarks"][0];
    assert_eq!(remark["code"], "parts", "{changed}");
    let parts = json!([
        { "path": "/tides", "by": "program", "at": format!("http://{program}") },
        { "path": "/", "by": "files", "at": "files" },
    ]);
    assert_eq!(remark["parts"], parts);
    let shown = coast.json(&["site", "show", "crumbandtide.example"], 0);
    assert_eq!(shown["site"]["content"]["parts"], json!([parts[0]]));
    let page = coast.run(&["site", "show", "crumbandtide.example"]).expect(0);
    assert!(page.contains(&format!("answers /tides: the program at {program} answers /: files")), "{page}");

    // What the model says is what the live server does, for the program and beside it.
    let tried = coast.json(&["redirect", "try", "https://crumbandtide.example/tides/today?x=1"], 0);
    assert_eq!((&tried["agree"], &tried["ends"]["status"]), (&json!(true), &json!(200)), "{tried}");
    assert_eq!(tried["model_part"], parts[0]);
    let beside = coast.json(&["redirect", "try", "https://crumbandtide.example/tidesx"], 0);
    assert_eq!((&beside["ends"]["status"], &beside["model_part"]), (&json!(404), &parts[1]), "{beside}");
    let tried = coast.run(&["redirect", "try", "http://crumbandtide.example/tides"]).expect(0);
    assert!(flat(&tried).contains(&format!("/tides, answered by the program at {program}")), "{tried}");
    assert_eq!(coast.json(&["survey", "crumbandtide.example"], 0)["exit"], 0);

    // The same once more changes nothing, and a part goes as it came.
    let again = coast.json(&["site", "change", "crumbandtide.example", "--serve", &tides], 0);
    assert_eq!(again["change"]["remarks"][0]["code"], "unchanged", "{again}");
    coast.run(&["site", "change", "crumbandtide.example", "--serve", "/tides=off"]).expect(0);
    let shown = coast.json(&["site", "show", "crumbandtide.example"], 0);
    assert_eq!(shown["site"]["content"], usual());
}

#[test]
fn a_program_that_is_down_is_named_with_what_to_do() {
    let coast = Coast::with_bakery();
    let listener = std::net::TcpListener::bind((coast.world.cast.web(), 0)).unwrap();
    let address = listener.local_addr().unwrap();
    drop(listener);
    coast.run(&["site", "change", "crumbandtide.example", "--serve", &format!("http://{address}")]).expect(0);
    let survey = coast.json(&["survey", "crumbandtide.example"], 1);
    let lands = &survey["surveys"][0]["links"][5];
    assert_eq!((&lands["code"], &lands["state"]), (&json!("program-silent"), &json!("broken")), "{survey}");
    let because = lands["because"].as_str().unwrap();
    let words = format!("the program at {address} does not take connections (connection refused): start it");
    assert!(because.contains(&words), "{because}");
}

#[test]
fn a_site_is_attached_with_its_program() {
    let coast = Coast::with_bakery();
    let program = format!("http://{}", coast.world.program());
    let attach = ["attach", "tides.crumbandtide.example", "--account", "bakery", "--serve", &program];
    let attached = coast.json(&attach, 0);
    assert!(attached["change"]["remarks"].to_string().contains("\"parts\""), "{attached}");
    let lands = coast.run(&["survey", "tides.crumbandtide.example"]).expect(0);
    assert!(!lands.contains("starter page"), "the program answers: {lands}");
    let elsewhere = ["attach", "quay.crumbandtide.example", "--account", "bakery", "--same-as", "crumbandtide.example"];
    let refused = coast.json(&[&elsewhere[..], &["--serve", &program]].concat(), 2);
    assert!(refused["error"]["message"].as_str().unwrap().contains("no site of its own"), "{refused}");
}

#[test]
fn how_files_are_shown_is_kept_and_taken_back_word_by_word() {
    let coast = Coast::with_bakery();
    let change = |more: &[&str], exit| coast.json(&[&["site", "change", "crumbandtide.example"], more].concat(), exit);
    let all = [
        "--index",
        "home.html,index.html",
        "--listing",
        "on",
        "--single-page",
        "/app.html",
        "--missing-page",
        "/404.html",
        "--cache",
        "css,js=7d",
        "--cache",
        "png=1h",
        "--front-script",
        "on",
        "--no-scripts",
        "/uploads,/media/",
        "--body-limit",
        "50M",
        "--time-limit",
        "5m",
    ];
    assert_eq!(change(&all, 0)["change"]["remarks"][0]["code"], "content-options");
    let shown = coast.json(&["site", "show", "crumbandtide.example"], 0);
    let expected = json!({
        "parts": [], "protected": [], "own_directives": false,
        "index": ["home.html", "index.html"], "listing": true, "single_page": "/app.html", "missing_page": "/404.html",
        "cache": [{ "endings": ["css", "js"], "seconds": 604_800 }, { "endings": ["png"], "seconds": 3_600 }],
        "front_script": true, "no_scripts": ["/uploads", "/media"], "htaccess": [], "body_limit_bytes": 52_428_800,
        "time_limit_seconds": 300,
    });
    assert_eq!(shown["site"]["content"], expected);
    let page = coast.run(&["site", "show", "crumbandtide.example"]).expect(0);
    for line in ["folder pages home.html, index.html", "kept css, js for 7 d; png for 1 h", "body limit 50M"] {
        assert!(page.contains(line), "{line}: {page}");
    }
    let back = [
        "--index",
        "usual",
        "--listing",
        "off",
        "--single-page",
        "off",
        "--missing-page",
        "off",
        "--cache",
        "off",
        "--front-script",
        "off",
        "--no-scripts",
        "off",
        "--body-limit",
        "usual",
        "--time-limit",
        "usual",
    ];
    change(&back, 0);
    assert_eq!(coast.json(&["site", "show", "crumbandtide.example"], 0)["site"]["content"], usual());
    for (option, wrong, says) in [
        ("--serve", "http://boats.example:3000", "no address of a program"),
        ("--serve", "/.well-known=files", "where proofs for CAs are answered from"),
        ("--serve", "/a;b=files", "not a path of a site"),
        ("--index", "../x", "not a name of a page"),
        ("--cache", "css", "does not say for how long"),
        ("--body-limit", "lots", "not a size"),
        ("--time-limit", "2d", "no time for a program to answer in"),
        ("--no-scripts", "uploads", "not a path of a site"),
    ] {
        let refused = change(&[option, wrong], 2);
        assert!(refused["error"]["message"].as_str().unwrap().contains(says), "{option} {wrong}: {refused}");
        assert!(refused["error"]["advice"].is_string(), "{refused}");
    }
    let refused = change(&["--serve", "php:8.2"], 4);
    assert_eq!((&refused["error"]["code"], &refused["error"]["version"]), (&json!("unknown-php"), &json!("8.2")));
    assert_eq!(change(&["--serve", "/tides=off"], 4)["error"]["code"], "no-such-part");
}

#[test]
fn a_path_is_protected_for_users_and_networks_and_free_again() {
    let coast = Coast::with_bakery();
    let protect =
        |more: &[&str], exit| coast.json(&[&["site", "protect", "crumbandtide.example"], more].concat(), exit);
    let password = coast.path("password");
    std::fs::write(&password, "the tide is high\nand not this line\n").unwrap();
    let anna = ["--path", "/admin/", "--user", "anna", "--password-file", password.to_str().unwrap()];
    let done = protect(&anna, 0);
    let remark = &done["change"]["remarks"][0];
    assert_eq!(
        (&remark["code"], &remark["path"], &remark["users"]),
        (&json!("protected"), &json!("/admin"), &json!(["anna"]))
    );
    let folder = coast.harbor().join("passwords");
    let file = std::fs::read_dir(&folder).unwrap().flatten().next().unwrap().path();
    let text = std::fs::read_to_string(&file).unwrap();
    assert!(text.starts_with("anna:$2") && !text.contains("tide") && text.lines().count() == 1, "{text}");
    let tried = coast.json(&["redirect", "try", "https://crumbandtide.example/admin/x"], 0);
    assert_eq!(tried["ends"]["status"], 401, "{tried}");
    protect(&["--path", "/admin", "--from", "192.0.2.0/24, 2001:db8::7"], 0);
    let page = coast.run(&["site", "show", "crumbandtide.example"]).expect(0);
    assert!(page.contains("protected /admin for the users anna, from 192.0.2.0/24, 2001:db8::7"), "{page}");
    let shown = coast.json(&["site", "show", "crumbandtide.example"], 0);
    let guard = json!({ "path": "/admin", "users": ["anna"], "from": ["192.0.2.0/24", "2001:db8::7"] });
    assert_eq!(shown["site"]["content"]["protected"], json!([guard]));
    assert_eq!(coast.json(&["survey", "crumbandtide.example"], 0)["exit"], 0);

    assert_eq!(protect(&["--path", "/admin", "--remove-user", "ben"], 4)["error"]["code"], "no-such-user");
    assert_eq!(protect(&["--off"], 4)["error"]["code"], "not-protected");
    for (more, says) in [
        (&["--path", "/admin"][..], "nothing says who"),
        (&["--from", "192.0.2.7/24"], "not a network"),
        (&["--user", "a:b", "--password-file", password.to_str().unwrap()], "not a name"),
        (&["--path", "/.well-known", "--from", "192.0.2.1"], "proofs for CAs"),
    ] {
        let refused = protect(more, 2);
        assert!(refused["error"]["message"].as_str().unwrap().contains(says), "{refused}");
    }
    std::fs::write(&password, "short\n").unwrap();
    assert!(protect(&anna, 2)["error"]["message"].as_str().unwrap().contains("8 to 72 bytes"));

    let off = protect(&["--path", "/admin", "--off"], 0);
    assert_eq!(off["change"]["remarks"][0]["code"], "protection-off", "{off}");
    assert!(!file.exists());
    assert_eq!(coast.json(&["site", "show", "crumbandtide.example"], 0)["site"]["content"], usual());
}

#[test]
fn commands_of_the_settings_that_are_not_there_are_told() {
    let coast = Coast::new();
    let toml = coast.harbor().join("harbor.toml");
    let text = std::fs::read_to_string(&toml).unwrap();
    let tables = "\n[notify]\ncommand = [\"/usr/local/bin/tell-nobody\"]\n[php.\"8.9\"]\npool-folder = \"/etc/php/8.9\"\n\
                  test = [\"php-fpm8.9\", \"-t\"]\nreload = [\"true\"]\n";
    std::fs::write(&toml, text + tables).unwrap();
    let checked = coast.json(&["init", "--check"], 3);
    let expected = json!([
        { "key": "[notify] command", "program": "/usr/local/bin/tell-nobody" },
        { "key": "[php.\"8.9\"] test", "program": "php-fpm8.9" },
    ]);
    assert_eq!(checked["no_programs"], expected, "{checked}");
    let told = coast.run(&["init", "--check"]).expect(3);
    assert!(told.contains("[notify] command names /usr/local/bin/tell-nobody, and there is no such program"), "{told}");
}

#[test]
fn the_heading_of_content_is_over_content_alone() {
    let coast = Coast::empty();
    for command in [&["attach", "--help"][..], &["site", "change", "--help"]] {
        let help = coast.run(command).expect(0);
        let (before, below) = help.split_once("What the site shows:").unwrap();
        for (option, is_content) in
            [("--yes", false), ("--dry-run", false), ("--document-root", false), ("--serve", true)]
        {
            let shown = format!("{option} ");
            assert_eq!(
                (before.contains(&shown), below.contains(&shown)),
                (!is_content, is_content),
                "{command:?} {option}"
            );
        }
    }
}

#[test]
fn files_of_apaches_are_refused_elsewhere() {
    let coast = Coast::with_bakery();
    let change = ["site", "change", "crumbandtide.example", "--yes", "--htaccess"];
    let refused = coast.json(&[&change[..], &["FileInfo"]].concat(), 4);
    assert_eq!(refused["error"]["code"], "no-htaccess", "{refused}");
    let typed = coast.run(&[&change[..], &["Options"]].concat()).expect(2);
    assert!(typed.contains("`Options` is no group of directives"), "{typed}");
    coast.run(&[&change[..], &["off"]].concat()).expect(0);
}

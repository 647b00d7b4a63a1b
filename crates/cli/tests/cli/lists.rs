//! All lists are narrowed alike, by a text in the line, and say how many there are.

use serde_json::Value;

use crate::coast::Coast;

/// Each list, the member that its rows are in, and a text that one row or some have and others do not.
const LISTS: &[(&str, &str, &str)] = &[
    ("account list", "accounts", "CHOIR@saltmarsh"),
    ("plan list", "plans", "large"),
    ("site list", "sites", "www.lanternchoir.example"),
    ("certificate list", "certificates", "lanternchoir"),
    ("zone list", "zones", "lantern"),
    ("zone list --files-only", "zones", "choir"),
    ("redirect list", "redirects", "/older"),
    ("nameserver list", "sets", "tide"),
    ("record list crumbandtide.example", "records", "ns2"),
    ("ca list", "cas", "lighthouse"),
    ("logbook --last 100", "entries", "plan add"),
    ("certificate list --under-way", "under_way", "lantern"),
];

fn rows(document: &Value, member: &str) -> usize {
    let rows = document[member].as_array().unwrap_or_else(|| panic!("{member}: {document}")).len();
    assert_eq!(document["shown"], rows, "{document}");
    rows
}

#[test]
fn every_list_is_narrowed_by_a_text_and_says_of_how_many() {
    let coast = Coast::with_bakery();
    let toml = coast.harbor().join("harbor.toml");
    let settings = std::fs::read_to_string(&toml).unwrap();
    let more = "\n[cas.lighthouse]\ndirectory = \"https://lighthouse.example/directory\"\n";
    std::fs::write(&toml, settings + more).unwrap();
    coast.run(&["certificate", "renew", "crumbandtide.example"]).expect(0);
    for line in [
        "plan add small --redirects 9",
        "plan add large --redirects 90",
        "account add choir --email choir@saltmarsh.example",
        "attach lanternchoir.example --account choir",
        "redirect add crumbandtide.example/old https://crumbandtide.example/new",
        "redirect add crumbandtide.example/older https://crumbandtide.example/new",
        "certificate renew crumbandtide.example",
        "certificate request lanternchoir.example",
        "certificate request crumbandtide.example",
        "nameserver add tide ns1.lanternchoir.example=192.0.2.53 ns2.lanternchoir.example=198.51.100.53",
    ] {
        coast.run(&line.split(' ').collect::<Vec<_>>());
    }
    for (list, member, text) in LISTS {
        let words: Vec<&str> = list.split(' ').collect();
        let narrowed = |text: &str| coast.done_or_not(&[&words[..], &["--with", text]].concat());
        let whole = coast.done_or_not(&words);
        let all = rows(&whole, member);
        assert_eq!(whole["of"], all, "{list}");
        let some = narrowed(text);
        let count = rows(&some, member);
        assert!(count > 0 && count < all && some["of"] == all, "{list}: {count} of {all}: {some}");
        let none = narrowed("nothing like it");
        assert!(rows(&none, member) == 0 && none["of"] == all, "{list}: {none}");
        let said = coast.run(&[&words[..], &["--with", "nothing like it"]].concat()).stdout;
        assert!(said.contains(" matches.") || said.contains(&format!("0 of {all}")), "{list}: {said}");
    }
    // Two renewals have left two former ones of one site.
    let former = coast.json(&["certificate", "list", "--former", "--with", "lantern"], 0);
    assert!(rows(&former, "former") == 0 && former["of"] == 2, "{former}");
    // Other filters are counted against the whole as well, and a text is looked for in all of the logbook.
    let of_choir = coast.done_or_not(&["certificate", "list", "--account", "choir"]);
    assert_eq!((rows(&of_choir, "certificates"), &of_choir["of"]), (1, &Value::from(2)), "{of_choir}");
    let last = coast.json(&["logbook", "--last", "1"], 0);
    let found = coast.json(&["logbook", "--last", "1", "--with", "plan add small"], 0);
    assert_eq!(found["entries"][0]["what"], "plan add small", "{found}");
    assert!(found["of"] == last["of"] && last["of"].as_u64().unwrap() > 9, "{last}");
}

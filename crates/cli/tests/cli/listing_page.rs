//! docs/listing.md: the file that it shows is taken as it stands.

use std::fs;

use crate::coast::Coast;

const PAGE: &str = include_str!("../../../../docs/listing.md");

fn block(kind: &str) -> String {
    let (_, rest) = PAGE.split_once(&format!("```{kind}\n")).unwrap();
    rest.split_once("```").unwrap().0.to_string()
}

#[test]
fn the_files_of_the_page_are_loaded() {
    let coast = Coast::empty();
    let settings = coast.path("settings.toml");
    fs::write(&settings, coast.world.settings()).unwrap();
    coast.run(&["init", "--settings", settings.to_str().unwrap()]).expect(0);
    let load = |name: &str, text: &str| {
        let path = coast.path(name);
        fs::write(&path, text).unwrap();
        coast.done(&["load", path.to_str().unwrap(), "--yes"])
    };
    // Its program listens nowhere here; HSTS waits for https.
    let loaded = load("listing.toml", &block("toml"));
    assert_eq!(loaded["exit"], 3, "{loaded}");
    for table in ["plans", "accounts", "nameserver_sets", "sites", "redirects", "records"] {
        assert_eq!(loaded["tables"][table]["added"], 1, "{table}: {loaded}");
    }
    let same = load("names.csv", &block("csv"));
    assert_eq!(same["tables"]["sites"]["same"], 1, "{same}");
}

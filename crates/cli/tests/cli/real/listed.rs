//! `load` on real servers: plans, accounts, sites, a redirect and a record come by one reload, and are served.

use std::fs;

use super::php_pools::page;
use super::voyage::Port;

const LISTING: &str = r#"
[plans.small]
addon-domains = 2
[accounts.bakery]
email = "baker@saltmarsh.example"
[accounts.choir]
email = "choir@saltmarsh.example"
plan = "small"
reseller = "bakery"
[sites."crumbandtide.example"]
account = "bakery"
www = "to-bare"
index = ["tide.html"]
[sites."lanternchoir.example"]
account = "choir"
names = ["gullrock.example"]
[[redirects]]
from = "crumbandtide.example/old"
to = "/tide.html"
[[records]]
zone = "lanternchoir.example"
owner = "tides"
type = "TXT"
data = "high water"
"#;

fn comes_at_once(kind: &str) {
    let port = Port::new(kind);
    let path = port.path("listing.toml");
    fs::write(&path, LISTING).unwrap();
    let file = path.to_str().unwrap();
    for domain in ["crumbandtide.example", "lanternchoir.example", "gullrock.example"] {
        port.delegate_here(domain);
    }
    port.json(&["load", file], 0);
    port.tend_until_served();
    fs::write(port.path("homes/bakery/www/crumbandtide.example/tide.html"), "high water").unwrap();
    assert_eq!(page(&port, "crumbandtide.example", "/", vec![]), (200, "high water".into()), "{kind}");
    assert_eq!(page(&port, "crumbandtide.example", "/old", vec![]).0, 302);
    assert_eq!(page(&port, "www.crumbandtide.example", "/", vec![]).0, 301);
    assert_eq!(page(&port, "gullrock.example", "/", vec![]).0, 200);
    let zones = port.json(&["zone", "list"], 0)["zones"].clone();
    assert_eq!(zones.as_array().map(Vec::len), Some(3), "{zones}");
    let survey = port.json(&["survey", "--all"], 0);
    assert_eq!(survey["exit"], 0, "{survey}");
    let again = port.json(&["load", file], 0);
    assert_eq!(again["change"]["remarks"][0]["code"], "unchanged", "{again}");
}

#[test]
fn a_listing_comes_at_once_on_nginx() {
    comes_at_once("nginx");
}

#[test]
fn a_listing_comes_at_once_on_apache() {
    comes_at_once("apache");
}

//! The pages of `report`: what is on them, what they leave alone, and how Debian's Chromium shows them.

use std::fs;
use std::path::PathBuf;
use std::time::Instant;

use brightharbor_core::account::AccountName;
use brightharbor_core::certificate::{
    Certificate, CertificateDetails, CertificateFiles, CertificateSource, CertificateState,
};
use brightharbor_core::change::{ChangeSet, InventoryChange};
use brightharbor_core::harbor::Layout;
use brightharbor_core::name::Host;
use brightharbor_core::site::{HttpsStates, Site, SiteKind, SiteRules};
use brightharbor_io::store::Store;
use jiff::{SignedDuration, Timestamp};
use serde_json::{Value, json};

use crate::browser::{BACKSPACE, Browser, ENTER, TAB};
use crate::coast::Coast;

/// Two accounts: one site works, another's domain is not delegated here, and visitors are sent around.
fn harbor() -> Coast {
    let coast = Coast::with_bakery();
    coast.run(&["plan", "add", "small", "--addon-domains", "3", "--redirects", "9"]).expect(0);
    coast.run(&["account", "add", "choir", "--email", "choir@saltmarsh.example", "--plan", "small"]).expect(0);
    coast.run(&["attach", "lanternchoir.example", "--account", "choir"]).expect(3);
    for (from, to) in [
        ("crumbandtide.example/offers", "https://crumbandtide.example/menu"),
        ("crumbandtide.example/menu", "https://crumbandtide.example/card"),
        ("lanternchoir.example/tickets", "https://tickets.example/saltmarsh"),
    ] {
        coast.run(&["redirect", "add", from, to]);
    }
    coast
}

fn report(coast: &Coast, more: &[&str]) -> (Value, PathBuf) {
    let to = coast.path("pages");
    let words = [&["report", "--to", to.to_str().unwrap()], more].concat();
    (coast.json(&words, 0), to)
}

#[test]
fn there_is_a_page_of_everything_and_one_for_each_customer() {
    let coast = harbor();
    let (written, to) = report(&coast, &[]);
    assert_eq!((&written["pages"], &written["hostnames"]), (&json!(3), &json!(4)), "{written}");
    assert_eq!((&written["broken"], &written["waiting"]), (&json!(2), &json!(0)), "{written}");
    let page = |name: &str| fs::read_to_string(to.join(name)).unwrap();
    let (all, bakery, choir) = (page("index.html"), page("accounts/bakery.html"), page("accounts/choir.html"));
    for text in
        ["crumbandtide.example", "lanternchoir.example", "nameservers-not-as-expected", "choir@saltmarsh.example"]
    {
        assert!(all.contains(text), "{text}");
    }
    // A customer is told of nobody else.
    for (theirs, others) in [(&bakery, ["choir", "tickets.example"]), (&choir, ["bakery", "crumbandtide"])] {
        others.iter().for_each(|other| assert!(!theirs.contains(other), "{other}"));
    }
    assert!(choir.contains("you, or whoever holds the registrar login") && choir.contains("1 of 3"), "{choir}");
    assert!(bakery.contains("Every hostname works"));
    let nobody_asked = report(&coast, &["--unasked"]).0;
    assert_eq!((&nobody_asked["broken"], &nobody_asked["pages"]), (&json!(null), &json!(3)));
    assert!(page("index.html").contains("were not walked"));
}

#[test]
fn a_later_report_knows_since_when_and_takes_away_the_pages_of_accounts_that_are_gone() {
    let coast = harbor();
    let (_, to) = report(&coast, &[]);
    let memory = to.join("since.json");
    let mut kept: Value = serde_json::from_slice(&fs::read(&memory).unwrap()).unwrap();
    assert_eq!(kept.as_object().unwrap().len(), 2, "{kept}");
    kept["lanternchoir.example"]["since"] = json!("2026-10-05T06:07:00Z");
    // Another reason is another story.
    kept["www.lanternchoir.example"] = json!({ "code": "closed", "since": "2026-10-01T00:00:00Z" });
    fs::write(&memory, kept.to_string()).unwrap();
    report(&coast, &["--unasked"]);
    report(&coast, &[]);
    let all = fs::read_to_string(to.join("index.html")).unwrap();
    assert!(all.contains("since 2026-10-05 06:07") && !all.contains("2026-10-01"), "{all}");
    fs::write(&memory, "no JSON").unwrap();
    coast.run(&["account", "remove", "choir", "--sites", "detach"]).expect(0);
    assert_eq!(report(&coast, &[]).0["pages"], 2);
    assert!(!to.join("accounts/choir.html").exists() && to.join("accounts/bakery.html").exists());
}

#[test]
fn pages_that_somebody_else_has_made_are_left_alone() {
    let coast = Coast::new();
    for name in ["index.html", "accounts/notes.html"] {
        let to = coast.path(name.split('/').next().unwrap());
        fs::create_dir_all(to.join("accounts")).unwrap();
        fs::write(to.join(name), "<h1>Saltmarsh Web Co-op</h1>").unwrap();
        let refused = coast.json(&["report", "--to", to.to_str().unwrap()], 4);
        assert_eq!(refused["error"]["code"], "in-the-way", "{refused}");
        assert!(refused["error"]["message"].as_str().unwrap().contains(name), "{refused}");
        assert_eq!(fs::read_to_string(to.join(name)).unwrap(), "<h1>Saltmarsh Web Co-op</h1>");
        assert!(!to.join("since.json").exists());
    }
}

/// The least contrast of all texts with what lies behind them (WCAG 2.2, 1.4.3), and the text that has it.
const CONTRAST: &str = r"
  const light = (color) => {
    const parts = color.match(/[\d.]+/g).map(Number);
    const [r, g, b] = parts.slice(0, 3).map((part) => {
      const share = part / 255;
      return share <= 0.04045 ? share / 12.92 : ((share + 0.055) / 1.055) ** 2.4;
    });
    return 0.2126 * r + 0.7152 * g + 0.0722 * b;
  };
  const behind = (element) => {
    for (let one = element; one; one = one.parentElement) {
      const color = getComputedStyle(one).backgroundColor;
      if (color !== 'rgba(0, 0, 0, 0)') return color;
    }
    return 'rgb(255, 255, 255)';
  };
  let worst = [99, ''];
  const texts = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT);
  for (let text = texts.nextNode(); text; text = texts.nextNode()) {
    const element = text.parentElement;
    if (!text.data.trim() || ['SCRIPT', 'STYLE', 'TITLE'].includes(element.tagName.toUpperCase())) continue;
    const style = getComputedStyle(element);
    const ink = element instanceof SVGElement ? style.fill : style.color;
    const [a, b] = [light(ink), light(behind(element))].sort((a, b) => b - a);
    const contrast = (a + 0.05) / (b + 0.05);
    if (contrast < worst[0]) worst = [contrast, text.data.trim()];
  }
  return worst;";

#[test]
fn a_browser_shows_it_in_light_and_dark_on_a_phone_and_in_print() {
    let coast = harbor();
    let (_, to) = report(&coast, &[]);
    let browser = Browser::open(1280, 800, false);
    for page in ["index.html", "accounts/choir.html"] {
        browser.go(&to.join(page));
        assert_eq!(browser.console(), Vec::<String>::new(), "{page}");
        let named = "return [...document.querySelectorAll('table')].every((one) => one.parentElement.ariaLabel)
            && [...document.querySelectorAll('th')].every((one) => one.scope)
            && [...document.querySelectorAll('input, select')].every((one) => one.labels.length === 1)
            && [...document.querySelectorAll('svg')].every((one) => one.role === 'img' && one.ariaLabel)
            && document.documentElement.lang === 'en' && document.querySelectorAll('h1').length === 1;";
        assert_eq!(browser.tell(named), true, "{page}: everything has its name");
        for (media, dark) in [("screen", false), ("screen", true), ("print", true)] {
            browser.media(media, dark);
            let worst = browser.tell(CONTRAST);
            assert!(worst[0].as_f64().unwrap() >= 4.5, "{page} {media} dark: {dark}: {worst}");
        }
        let hidden = browser.tell("return getComputedStyle(document.querySelector('nav')).display");
        assert_eq!(hidden, "none", "nothing to click on paper");
        browser.media("screen", true);
        let dark = browser.tell("return getComputedStyle(document.body).backgroundColor");
        browser.media("screen", false);
        assert_ne!(dark, browser.tell("return getComputedStyle(document.body).backgroundColor"));
    }
    let phone = Browser::open(380, 760, false);
    phone.go(&to.join("index.html"));
    let widths = phone.tell("return [document.documentElement.scrollWidth, innerWidth]");
    assert!(
        widths[0].as_f64().unwrap() <= widths[1].as_f64().unwrap(),
        "the page itself never scrolls aside: {widths}"
    );
}

const SHOWN: &str = "return [...document.querySelectorAll('#hosts-table tbody:not([hidden]) tr')]
    .map((row) => row.cells[0].textContent)";

#[test]
fn filters_and_sorting_work_by_keyboard() {
    let coast = harbor();
    let (_, to) = report(&coast, &[]);
    let browser = Browser::open(1280, 800, false);
    browser.go(&to.join("index.html"));
    // What is broken comes first.
    let names =
        ["lanternchoir.example", "www.lanternchoir.example", "crumbandtide.example", "www.crumbandtide.example"];
    assert_eq!(browser.tell(SHOWN), json!(names));
    browser.tell("document.querySelector('input[name=text]').focus()");
    browser.press(&["w", "w", "w"]);
    assert_eq!(browser.tell(SHOWN), json!(["www.lanternchoir.example", "www.crumbandtide.example"]));
    assert_eq!(browser.tell("return document.querySelector('output').textContent"), "2 of 4 hostnames");
    // On to the state, and from there its first choice: broken.
    browser.press(&[TAB, "b"]);
    assert_eq!(browser.tell("return document.activeElement.name"), "state");
    assert_eq!(browser.tell(SHOWN), json!(["www.lanternchoir.example"]));
    browser.tell(
        "const form = document.querySelector('form.filter'); form.reset(); form.dispatchEvent(new Event('input'))",
    );
    assert_eq!(browser.tell(SHOWN), json!(names));
    browser.tell("document.querySelector('input[name=text]').focus()");
    browser.press(&["q", "q"]);
    assert_eq!(browser.tell(SHOWN), json!([]));
    browser.press(&[BACKSPACE, BACKSPACE]);
    assert_eq!(browser.tell(SHOWN), json!(names));
    // The headings are buttons.
    let order = |wanted: &str| {
        browser.press(&[ENTER]);
        assert_eq!(browser.tell("return document.activeElement.closest('th').ariaSort"), wanted);
        browser.tell(SHOWN)
    };
    browser.tell("document.querySelector('#hosts-table thead button').focus()");
    let mut sorted = names;
    sorted.sort_unstable();
    assert_eq!(order("ascending"), json!(sorted));
    sorted.reverse();
    assert_eq!(order("descending"), json!(sorted));
    assert_eq!(browser.console(), Vec::<String>::new());
}

fn certificate(at: i64) -> Certificate {
    let site = Host::parse(&format!("boat{at}.crumbandtide.example")).unwrap();
    let not_after = Timestamp::now() + SignedDuration::from_hours(24 * (at % 90) + 1);
    Certificate {
        names: vec![site.clone()],
        site,
        files: CertificateFiles { folder: "/srv/nowhere".into() },
        not_before: Timestamp::now() - SignedDuration::from_hours(24),
        not_after,
        state: CertificateState::Served,
        source: CertificateSource::Ca,
        details: CertificateDetails::default(),
    }
}

#[test]
fn ten_thousand_hostnames_open_in_two_seconds() {
    let coast = Coast::new();
    let mut store = Store::open(&Layout::new(coast.harbor()).inventory()).unwrap();
    let mut set = ChangeSet::new("as if they were attached");
    for at in 0..10_000 {
        let host = Host::parse(&format!("boat{at}.crumbandtide.example")).unwrap();
        let root = coast.path("homes").join("bakery/www").join(host.as_str());
        let account = AccountName::parse("bakery").unwrap();
        set.inventory(InventoryChange::AddSite(Site {
            account,
            hostnames: vec![host],
            document_root: root,
            kind: SiteKind::Subdomain,
            https: HttpsStates::default(),
            certificate: None,
            rules: SiteRules::default(),
        }));
        // A real one has a certificate for each.
        set.inventory(InventoryChange::RecordCertificate(certificate(at)));
    }
    let entry = store.next_entry().unwrap();
    store.begin(entry, Timestamp::UNIX_EPOCH, "tester", &set, &[]).unwrap();
    store.commit(entry, &set).unwrap();
    drop(store);
    let (written, to) = report(&coast, &["--unasked"]);
    assert_eq!(written["hostnames"], 10_000);
    let browser = Browser::open(1280, 800, false);
    // The quickest of some: other tests run beside.
    let open = || {
        browser.go(&to.join("accounts/bakery.html"));
        let begun = Instant::now();
        browser.go(&to.join("index.html"));
        assert_eq!(browser.tell("return document.querySelector('output').textContent"), "10000 hostnames");
        begun.elapsed()
    };
    let quickest = (0..4).map(|_| open()).min().unwrap();
    assert!(quickest.as_secs_f64() < 2.0, "{quickest:?}");
    let begun = Instant::now();
    browser.tell("document.querySelector('input[name=text]').focus()");
    browser.press(&["9", "9", "9"]);
    assert_eq!(browser.tell(SHOWN).as_array().unwrap().len(), 19, "{:?}", browser.tell(SHOWN));
    assert!(begun.elapsed().as_secs_f64() < 4.0, "{:?}", begun.elapsed());
    browser.press(&[BACKSPACE, BACKSPACE, BACKSPACE]);
    let rows = "return document.querySelectorAll('#hosts-table tbody tr').length";
    assert_eq!(browser.tell(rows), 500, "not all at once");
    browser.tell("document.querySelector('p.more button').click()");
    assert_eq!(browser.tell(rows), 10_000);
    let of_certificates = "return [...document.querySelectorAll('#certificates-table tbody tr')]
        .map((row) => row.cells[6].className + row.cells[6].textContent)";
    let shown = browser.tell(of_certificates);
    assert_eq!((shown.as_array().unwrap().len(), &shown[0]), (500, &json!("waitsexpires soon")));
    browser.tell("document.querySelectorAll('#certificates-table thead button')[4].click()");
    assert_eq!(browser.tell(of_certificates)[0], "waitsexpires soon", "rows that the script makes look the same");
    browser.tell("document.querySelectorAll('#certificates-table thead button')[4].click()");
    assert_eq!(browser.tell(of_certificates)[0], "servedserved", "from the other end of all of them");
    assert_eq!(browser.console(), Vec::<String>::new());
}

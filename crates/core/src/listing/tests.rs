//! Listings against harbors: what is as listed is no step, and each difference is one.

use std::collections::BTreeMap;

use super::*;
use crate::account::{Account, LimitWishes};
use crate::harbor::NameserverSet;
use crate::nameserver::set_of;
use crate::redirect::{Redirect, Source, Sources, Target};
use crate::site::{
    Answering, Cached, Content, HttpsState, HttpsStates, Part, ServedFrom, Site, SiteKind, SiteRules, ZoneChoice,
    parse_part,
};

fn name(text: &str) -> AccountName {
    AccountName::parse(text).unwrap()
}

fn host(text: &str) -> Host {
    Host::parse(text).unwrap()
}

fn part(typed: &str) -> Part {
    let (path, by) = parse_part(typed).unwrap();
    Part { path, by: by.unwrap_or(Answering::Files) }
}

fn redirect(from: &str, to: &str) -> Redirect {
    Redirect {
        source: Source::parse(from, false).unwrap(),
        target: Target::parse(to, false).unwrap(),
        status: 302,
        keep_path: false,
        with_twin: false,
        until: None,
    }
}

fn site(account: &str, names: &[&str], rules: SiteRules) -> Site {
    let hostnames: Vec<Host> = names.iter().map(|text| host(text)).collect();
    let mut https = HttpsStates::default();
    hostnames.iter().for_each(|host| https.set(host, HttpsState::Forced));
    Site {
        account: name(account),
        document_root: format!("/home/{account}/www/{}", names[0]).into(),
        hostnames,
        kind: SiteKind::AddonDomain,
        https,
        certificate: None,
        rules,
    }
}

fn coast() -> NameserverSet {
    let members = ["ns1.harbour.example=192.0.2.53", "ns2.harbour.example"].map(|typed| typed.parse().unwrap());
    NameserverSet { capacity: Some(9), ..set_of(&members) }
}

/// With something of everything.
fn present() -> Present {
    let account = |of: &str| Account::new(name(of), format!("{of}@saltmarsh.example"), format!("/home/{of}"));
    let boatyard = Account {
        plan: Some(name("small")),
        reseller: Some(name("bakery")),
        system_user: Some("games".into()),
        nameserver_set: Some("coast".into()),
        ..account("boatyard")
    };
    let content = Content {
        parts: vec![part("/api=http://127.0.0.1:3000"), part("/blog=php:8.2")],
        index: vec!["tide.html".into()],
        listing: true,
        single_page: Some("/app.html".into()),
        missing_page: Some("/404.html".into()),
        cache: vec![Cached { endings: vec!["css".into(), "js".into()], seconds: 3_600 }],
        front: true,
        no_scripts: vec!["/uploads".into()],
        htaccess: vec![Overridable::FileInfo],
        body_limit: Some(1 << 20),
        time_limit: Some(90),
        ..Content::default()
    };
    let mut ending = redirect("gullrock.example/sale", "/boats");
    ending.until = Some("2027-02-01T00:00:00Z".parse().unwrap());
    let mut whole = redirect("quay.example", "https://gullrock.example/");
    (whole.status, whole.with_twin) = (301, true);
    let mut kept = redirect("gullrock.example/old", "https://quay.example/new");
    (kept.source.prefix, kept.keep_path) = (true, true);
    let rules = SiteRules {
        www: WwwPolicy::ToBare,
        https_policy: HttpsPolicy::Offered,
        tls: TlsFloor::Tls13,
        hsts: Some(86_400),
        redirects: vec![ending, whole, kept],
        content: Box::new(content),
        ..SiteRules::default()
    };
    let names = ["gullrock.example", "www.gullrock.example", "quay.example", "www.quay.example"];
    Present {
        plans: BTreeMap::from([(name("small"), Limits { redirects: Some(9), ..Limits::default() })]),
        accounts: BTreeMap::from([(name("boatyard"), boatyard), (name("bakery"), account("bakery"))]),
        sets: BTreeMap::from([(name("coast"), coast())]),
        sites: vec![
            site("boatyard", &names, rules),
            site("bakery", &["crumbandtide.example", "www.crumbandtide.example"], SiteRules::default()),
        ],
    }
}

fn read(text: &str) -> Listing {
    toml::from_str(text).unwrap_or_else(|error| panic!("{error}"))
}

fn compared(text: &str) -> Compared {
    compare(&read(text), &present()).unwrap_or_else(|error| panic!("{error}"))
}

fn one_step(text: &str) -> Step {
    let mut steps = compared(text).steps;
    assert_eq!(steps.len(), 1, "{text}: {steps:?}");
    steps.remove(0)
}

#[test]
fn what_a_harbor_writes_changes_nothing_there_and_says_it_all() {
    let record = ListedRecord {
        zone: crate::name::Hostname::parse("gullrock.example").unwrap(),
        owner: "tides".into(),
        record_type: "TXT".into(),
        data: "\"high water\"".into(),
        ttl: None,
    };
    let written = listing_of(&present(), vec![record]);
    let text = toml::to_string(&written).unwrap();
    assert_eq!(read(&text), written, "{text}");
    let mut listing = written;
    listing.whole = vec![Whole::Sites, Whole::Redirects];
    let Compared { steps, plans, accounts, nameserver_sets, sites, redirects, later } =
        compare(&listing, &present()).unwrap();
    assert!(steps.is_empty() && later.is_empty(), "{steps:?}");
    let same = |count| Counts { same: count, ..Counts::default() };
    assert_eq!((plans, accounts, sites, redirects), (same(1), same(2), same(2), same(3)));
    assert_eq!(nameserver_sets, same(1));
    for line in ["names = [\"quay.example\"]", "tls = \"1.3\"", "\"css,js\" = 3600", "until = \"2027-01-31\""] {
        assert!(text.contains(line), "{line}: {text}");
    }
    // Into an empty harbor, everything comes: names in their order, and HSTS once it can.
    let all = compare(&read(&text), &Present::default()).unwrap();
    let words: Vec<String> = all
        .steps
        .iter()
        .map(|step| match step {
            Step::Plan { name, is_new: true, .. } => format!("plan {name}"),
            Step::AddAccount(request) => format!("account {}", request.name),
            Step::AddSet(request) => format!("set {}", request.name),
            Step::Attach(request) => format!("attach {}", request.hostname),
            Step::ChangeSite(name, _) => format!("change {name}"),
            Step::AddRedirect(request) => match &request.sources {
                Sources::One(source) => format!("redirect {source}"),
                Sources::AllOf(_) => "all".into(),
            },
            other => format!("{other:?}"),
        })
        .collect();
    let expected = [
        "plan small",
        "set coast",
        "account bakery",
        "account boatyard",
        "attach crumbandtide.example",
        "attach gullrock.example",
        "attach quay.example",
        "change gullrock.example",
        "redirect gullrock.example/sale",
        "redirect quay.example",
        "redirect gullrock.example/old",
    ];
    assert_eq!(words, expected);
    assert_eq!(all.later, [host("gullrock.example")]);
    let added = |count| Counts { added: count, ..Counts::default() };
    assert_eq!((all.plans, all.accounts, all.sites, all.redirects), (added(1), added(2), added(2), added(3)));
    let attaching = all.attaching();
    assert_eq!(attaching[&name("boatyard")].len(), 2);
}

#[test]
fn each_difference_of_an_account_is_a_change_and_what_is_not_named_stays() {
    let mail = "[accounts.boatyard]\nemail = \"boatyard@saltmarsh.example\"\n";
    assert!(compared(mail).steps.is_empty());
    let change = |line: &str| match one_step(&format!("{mail}{line}\n")) {
        Step::ChangeAccount(of, change) => {
            assert_eq!(of, name("boatyard"));
            change
        }
        other => panic!("{line}: {other:?}"),
    };
    let ChangeAccountParts { email, plan, set, reseller, user, home } = parts(&change("plan = \"large\""));
    assert_eq!((plan, email, set, reseller, user, home), (Some("large".into()), None, None, None, None, None));
    assert_eq!(parts(&change("nameserver-set = \"host\"")).set.as_deref(), Some("host"));
    assert_eq!(parts(&change("reseller = \"choir\"")).reseller.as_deref(), Some("choir"));
    assert_eq!(parts(&change("system-user = \"news\"")).user.as_deref(), Some("news"));
    assert_eq!(parts(&change("home = \"/srv/yard\"")).home.as_deref(), Some("/srv/yard"));
    let other = one_step("[accounts.boatyard]\nemail = \"yard@saltmarsh.example\"\n");
    assert!(
        matches!(other, Step::ChangeAccount(_, change) if change.email.as_deref() == Some("yard@saltmarsh.example"))
    );
    let counted = compared("[accounts.boatyard]\nemail = \"yard@saltmarsh.example\"\n").accounts;
    assert_eq!(counted, Counts { changed: 1, ..Counts::default() });
    let limits = one_step("[plans.small]\nredirects = 10\n");
    let Step::Plan { is_new: false, limits, .. } = limits else { panic!("{limits:?}") };
    assert_eq!(limits, LimitWishes::all(Limits { redirects: Some(10), ..Limits::default() }));
    assert_eq!(compared("[plans.small]\nredirects = 10\n").plans.changed, 1);
}

/// What a change of an account is to change, as text.
struct ChangeAccountParts {
    email: Option<String>,
    plan: Option<String>,
    set: Option<String>,
    reseller: Option<String>,
    user: Option<String>,
    home: Option<String>,
}

fn parts(change: &crate::account::ChangeAccount) -> ChangeAccountParts {
    assert!(!change.is_empty());
    ChangeAccountParts {
        email: change.email.clone(),
        plan: change.plan.clone().flatten().map(|name| name.to_string()),
        set: change.nameserver_set.clone().flatten(),
        reseller: change.reseller.clone().flatten().map(|name| name.to_string()),
        user: change.user.clone().and_then(|user| user.name),
        home: change.home.as_ref().map(|home| home.display().to_string()),
    }
}

#[test]
fn each_difference_of_a_site_is_a_change_of_that_alone() {
    let head = "[sites.\"gullrock.example\"]\naccount = \"boatyard\"\n";
    // Listed as it is.
    for line in ["", "document-root = \"www/gullrock.example\"", "www = \"to-bare\"", "index = [\"tide.html\"]"] {
        let found = compared(&format!("{head}{line}\n"));
        assert!(found.steps.is_empty() && found.sites.same == 1, "{line}: {:?}", found.steps);
    }
    let change = |line: &str| match one_step(&format!("{head}{line}\n")) {
        Step::ChangeSite(of, change) if of == host("gullrock.example") => change,
        other => panic!("{line}: {other:?}"),
    };
    assert_eq!(change("document-root = \"www/yard\"").document_root, Some("www/yard".into()));
    assert_eq!(change("www = \"also\"").www, Some(WwwPolicy::Also));
    assert_eq!(change("https = \"forced\"").https, Some(HttpsPolicy::Forced));
    assert_eq!(change("tls = \"1.2\"").tls, Some(TlsFloor::Tls12));
    assert_eq!(change("hsts = 60").hsts, Some(Some(60)));
    assert_eq!(change("hsts = 0").hsts, Some(None));
    let before = &present().sites[0].rules.content.clone();
    let content = |line: &str| change(line).content.applied_to(before);
    assert_eq!(content("index = [\"ebb.html\"]").index, ["ebb.html"]);
    assert!(!content("listing = false").listing && !content("front-script = false").front);
    assert_eq!(content("single-page = \"/one.html\"").single_page.as_deref(), Some("/one.html"));
    assert_eq!(content("missing-page = \"/none.html\"").missing_page.as_deref(), Some("/none.html"));
    assert_eq!(content("cache = { png = 60 }").cache, [Cached { endings: vec!["png".into()], seconds: 60 }]);
    assert_eq!(content("no-scripts = [\"/media\"]").no_scripts, ["/media"]);
    assert!(content("htaccess = []").htaccess.is_empty());
    assert_eq!((content("body-limit = 5").body_limit, content("time-limit = 6").time_limit), (Some(5), Some(6)));
    // All of its parts: what is not listed goes.
    assert_eq!(content("serve = [\"/api=http://127.0.0.1:3001\"]").parts, [part("/api=http://127.0.0.1:3001")]);
    let over = one_step("[sites.\"gullrock.example\"]\naccount = \"bakery\"\n");
    assert!(matches!(over, Step::HandOver { to, .. } if to == name("bakery")));
    // HSTS waits where http is not led to https yet.
    let mut early = present();
    early.sites[0].https = HttpsStates::default();
    early.sites[0].rules.hsts = None;
    let found = compare(&read(&format!("{head}hsts = 60\n")), &early).unwrap();
    assert!(found.steps.is_empty() && found.later == [host("gullrock.example")]);
}

#[test]
fn names_come_and_nothing_goes_unless_the_file_is_the_whole_truth() {
    let attached = one_step(
        "[sites.\"crumbandtide.example\"]\naccount = \"bakery\"\nnames = [\"bread.example\"]\nzone = \"elsewhere\"\n",
    );
    let Step::Attach(request) = attached else { panic!("{attached:?}") };
    assert_eq!((request.hostname, request.zone), (host("bread.example"), ZoneChoice::Elsewhere));
    assert_eq!(request.place, ServedFrom::SameAs(host("crumbandtide.example")));

    let gullrock = "[sites.\"gullrock.example\"]\naccount = \"boatyard\"\n";
    assert!(compared(gullrock).steps.is_empty());
    let found = compared(&format!("whole = [\"sites\"]\n{gullrock}"));
    let gone = found.steps.iter().map(|step| match step {
        Step::Detach { site, names } => (site.as_str(), names.iter().map(Host::as_str).collect::<Vec<_>>()),
        other => panic!("{other:?}"),
    });
    let gone: Vec<_> = gone.collect();
    // The twin of its own name stays, the other name goes with its twin; the other site goes whole.
    assert_eq!(
        gone,
        [
            ("gullrock.example", vec!["quay.example", "www.quay.example"]),
            ("crumbandtide.example", vec!["crumbandtide.example"]),
        ]
    );
    assert_eq!(found.sites, Counts { changed: 1, gone: 1, ..Counts::default() });
}

#[test]
fn a_listing_has_to_do_with_the_sites_of_its_names_alone() {
    let text = "[sites.\"gullrock.example\"]\naccount = \"boatyard\"\nnames = [\"quay.example\"]\n\
                [[redirects]]\nfrom = \"pier.example/x\"\nto = \"/y\"\n[[redirects]]\nfrom = \"no host\"\nto = \"/y\"\n";
    let names = read(text).names().unwrap();
    assert_eq!(
        names.iter().map(Host::as_str).collect::<Vec<_>>(),
        ["gullrock.example", "pier.example", "quay.example"]
    );
    assert_eq!(read("whole = [\"redirects\"]\n").names(), None);
}

#[test]
fn redirects_come_change_and_go_by_their_source() {
    let listed =
        |to: &str, more: &str| format!("[[redirects]]\nfrom = \"gullrock.example/sale\"\nto = \"{to}\"\n{more}");
    let until = "until = \"2027-01-31\"\n";
    let same = compared(&listed("/boats", until));
    assert!(same.steps.is_empty() && same.redirects.same == 1, "{:?}", same.steps);
    for differs in [listed("/sails", until), listed("/boats", ""), listed("/boats", &format!("{until}status = 301\n"))]
    {
        let found = compared(&differs);
        assert!(
            matches!(&found.steps[..], [Step::RemoveRedirect(source), Step::AddRedirect(_)] if source.path == "/sale"),
            "{differs}: {:?}",
            found.steps
        );
        assert_eq!(found.redirects, Counts { changed: 1, ..Counts::default() });
    }
    let added = one_step(
        "[[redirects]]\nfrom = \"crumbandtide.example/old\"\nto = \"/new\"\nprefix = true\nwith-twin = true\n",
    );
    let Step::AddRedirect(request) = added else { panic!("{added:?}") };
    assert!(request.with_twin && !request.keep_path && request.status == 302);
    assert!(matches!(request.sources, Sources::One(source) if source.prefix));
    let whole = compared(&format!("whole = [\"redirects\"]\n{}", listed("/boats", until)));
    assert_eq!(whole.redirects, Counts { same: 1, gone: 2, ..Counts::default() });
    assert!(whole.steps.iter().all(|step| matches!(step, Step::RemoveRedirect(_))) && whole.steps.len() == 2);
    // Those of a site that goes, go with it.
    let both = compared("whole = [\"sites\", \"redirects\"]\n");
    assert_eq!((both.sites.gone, both.redirects.gone), (2, 0));
}

#[test]
fn what_cannot_be_understood_is_told_with_its_entry() {
    let told = |text: &str| compare(&read(text), &present()).unwrap_err().to_string();
    assert!(told("[accounts.choir]\nemail = \"nobody\"\n").starts_with("accounts.choir: "));
    let user = "[accounts.choir]\nemail = \"choir@saltmarsh.example\"\nsystem-user = \"a b\"\n";
    assert!(told(user).starts_with("accounts.choir: "));
    let site = "[sites.\"quayside.example\"]\naccount = \"bakery\"\nserve = [\"gopher://x\"]\n";
    assert!(told(site).starts_with("sites.\"quayside.example\": `gopher://x`"), "{}", told(site));
    let from = "[[redirects]]\nfrom = \"gullrock.example/x\"\nto = \"nowhere\"\n";
    assert!(told(from).starts_with("redirects, from = \"gullrock.example/x\": "), "{}", told(from));
    assert!(toml::from_str::<Listing>("[sites.\"a.example\"]\naccount = \"bakery\"\nwwww = \"also\"\n").is_err());
}

#[test]
fn a_table_of_hostnames_is_read_line_by_line() {
    let text = "# of the co-op\nhostname, account, same-as, www, zone, document-root\n\
                gullrock.example, boatyard, , to-bare, elsewhere, www/rock\nquay.example, , gullrock.example, , ,\n";
    let listing = Listing::from_csv(text).unwrap();
    let site = &listing.sites[&host("gullrock.example")];
    assert_eq!((site.www, site.zone), (Some(WwwPolicy::ToBare), Some(ListedZone::Elsewhere)));
    assert_eq!((&site.names[..], site.document_root.clone()), (&[host("quay.example")][..], Some("www/rock".into())));
    let told = |text: &str| {
        let CsvError { line, reason } = Listing::from_csv(text).unwrap_err();
        format!("{line}: {reason}")
    };
    let head = "hostname,account,www,zone\n";
    assert!(told("hostname,owner\n").starts_with("1: there is no column `owner`"));
    assert_eq!(told("hostname\n"), "1: the column `account` is missing");
    assert_eq!(told(&format!("{head}a.example,,,\n")), "2: no account is given");
    assert!(told(&format!("{head}a..example,bakery,,\n")).starts_with("2: "));
    assert!(told(&format!("{head}a.example,bakery,both,\n")).contains("not `both`"));
    assert!(told(&format!("{head}a.example,bakery,,there\n")).contains("not `there`"));
    assert_eq!(told(&format!("{head}a.example,bakery,,\na.example,bakery,,\n")), "3: a.example is listed twice");
    assert!(told(&format!("{head}a.example,bakery\n")).starts_with("2: 2 values stand in a line"));
    let same = "hostname,account,same-as\na.example,bakery,b.example\n";
    assert_eq!(told(same), "2: b.example is not in the list itself");
}

#[test]
fn records_that_are_missing_are_added_in_one_step_for_each_zone() {
    use crate::zone::rules::Surroundings;
    use crate::zone::{Document, KeptZone, Zone, ZoneHome, ZonePlace};
    let zone = Zone::new(crate::name::Hostname::parse("gullrock.example").unwrap(), name("boatyard"), ZoneHome::Here);
    let text = "$TTL 900\n@ SOA ns1.saltmarsh.example. host 7 4h 30m 4w 5m\n@ NS ns1.saltmarsh.example.\ntides 60 TXT \"low\"\n";
    let document = Document::parse(text, &zone.name.dns_name()).unwrap();
    let kept =
        KeptZone { zone, document, place: ZonePlace::File { path: "/harbor/zones/gullrock.example.zone".into() } };
    let record = |owner: &str, kind: &str, data: &str, ttl: &str| {
        format!(
            "[[records]]\nzone = \"gullrock.example\"\nowner = \"{owner}\"\ntype = \"{kind}\"\ndata = '{data}'\n{ttl}\n"
        )
    };
    let listed = |records: &[String]| records_by_zone(&read(&records.concat()));
    let now = "2026-11-28T12:00:00Z".parse().unwrap();
    let add = |records: &[String]| {
        let by_zone = listed(records).unwrap();
        assert_eq!(by_zone.len(), 1);
        add_listed(&kept, &by_zone[0].1, &Surroundings::default(), now)
    };
    let same = record("tides", "TXT", "\"low\"", "ttl = 7");
    let (plan, counts) = add(std::slice::from_ref(&same)).unwrap();
    assert!(plan.is_empty() && plan.remarks.is_empty());
    assert_eq!(counts, Counts { same: 1, ..Counts::default() });
    // A TTL of its own, that of its neighbours, that of the zone; the same twice is one.
    let high = record("tides", "TXT", "high water", "");
    let all =
        [same, high.clone(), high, record("quay", "A", "192.0.2.7", ""), record("@", "A", "192.0.2.8", "ttl = 5")];
    let (plan, counts) = add(&all).unwrap();
    assert_eq!(counts, Counts { added: 3, same: 2, ..Counts::default() });
    let [crate::change::Change::WriteFile(write)] = &plan.set.changes[..] else { panic!("{:?}", plan.set.changes) };
    let after = Document::parse(&write.content[..], &kept.zone.name.dns_name()).unwrap();
    let ttls: Vec<(String, u32)> = after
        .records()
        .filter(|one| !kept.document.records().any(|old| old == *one))
        .map(|one| (one.owner.bare(), one.ttl))
        .collect();
    for expected in [("tides.gullrock.example", 60), ("quay.gullrock.example", 900), ("gullrock.example", 5)] {
        assert!(ttls.contains(&(expected.0.to_string(), expected.1)), "{expected:?}: {ttls:?}");
    }
    assert_eq!(after.soa().serial, 8, "once for all of them");
    // What would break the zone is refused, and what cannot be read is told with its place.
    assert!(add(&[record("tides", "CNAME", "quay", "")]).is_err());
    let told =
        |kind: &str, data: &str| listed(&[record("x", "A", "192.0.2.1", ""), record("x", kind, data, "")]).unwrap_err();
    assert_eq!(told("TXXT", "x").to_string(), "records, the 2. one: `TXXT` is not a record type");
    assert!(told("A", "192.0.2.300").to_string().starts_with("records, the 2. one: "));
}

/// The steps of a listing on an empty harbor, in a few words.
fn order(text: &str) -> Vec<String> {
    let steps = compare(&read(text), &Present::default()).unwrap().steps;
    let words = |step: &Step| match step {
        Step::AddAccount(request) => format!("account {} {:?}", request.name, request.nameserver_set),
        Step::ChangeAccount(name, request) => format!("{name} takes {:?}", request.nameserver_set),
        Step::AddSet(request) => format!("set {}", request.name),
        Step::Attach(request) => format!("attach {}", request.hostname),
        other => format!("{other:?}"),
    };
    steps.iter().map(words).collect()
}

#[test]
fn sets_come_when_what_they_need_is_there_and_accounts_take_them_then() {
    let account =
        |set: &str| format!("[accounts.choir]\nemail = \"c@saltmarsh.example\"\nnameserver-set = \"{set}\"\n");
    let set = |name: &str, of: &str, more: &str| format!("[nameserver-sets.{name}]\nnameservers = [\"{of}\"]\n{more}");
    let text = account("tide") + &set("tide", "ns1.harbour.example", "");
    assert_eq!(order(&text), ["set tide", "account choir Some(\"tide\")"]);
    // One for an account comes after it, and the account takes it then.
    let text = account("tide") + &set("tide", "ns1.harbour.example", "account = \"choir\"\n");
    assert_eq!(order(&text), ["account choir None", "set tide", "choir takes Some(Some(\"tide\"))"]);
    // One with names in a domain of the file needs its zone.
    let site = "[sites.\"quay.example\"]\naccount = \"choir\"\nwww = \"none\"\n";
    let text = account("tide") + &set("tide", "ns1.quay.example=192.0.2.53", "") + site;
    let expected = ["account choir None", "attach quay.example", "set tide", "choir takes Some(Some(\"tide\"))"];
    assert_eq!(order(&text), expected);
    // One that is not in the file is there, or is refused where it is decided.
    assert_eq!(order(&account("coast")), ["account choir Some(\"coast\")"]);
}

#[test]
fn a_set_changes_by_what_differs() {
    let listed = |of: &str, more: &str| format!("[nameserver-sets.coast]\nnameservers = [{of}]\n{more}");
    let same = compared(&listed("\"ns1.harbour.example\", \"ns2.harbour.example\"", ""));
    assert!(same.steps.is_empty() && same.nameserver_sets.same == 1, "addresses that are not named stay");
    let Step::ChangeSet(change) =
        one_step(&listed("\"ns1.harbour.example=192.0.2.99\", \"ns3.harbour.example=192.0.2.54\"", "capacity = 20\n"))
    else {
        panic!()
    };
    let names = |members: &[crate::nameserver::Member]| -> Vec<String> {
        members.iter().map(|member| member.name.bare()).collect()
    };
    assert_eq!(
        (names(&change.members), names(&change.joining)),
        (vec!["ns1.harbour.example".into()], vec!["ns3.harbour.example".into()])
    );
    assert_eq!((change.leaving[0].bare(), change.capacity), ("ns2.harbour.example".to_string(), Some(20)));
    let told = |text: &str| compare(&read(text), &present()).unwrap_err().to_string();
    assert!(told(&listed("", "")).contains("names no nameservers"));
    assert!(told(&listed("\"no name\"", "")).starts_with("nameserver-sets.coast: `no name` is not"));
    assert!(told(&listed("\"ns1.harbour.example\"", "account = \"bakery\"\n")).contains("stays with its account"));
}

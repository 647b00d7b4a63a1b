//! The decisions about redirects, on sites that are only thought of.

use super::*;
use crate::account::Limits;
use crate::change::Remark;
use crate::harbor::WebServer;
use crate::site::{HttpsStates, SiteKind, SiteRules};

fn site(domain: &str) -> Site {
    Site {
        account: AccountName::parse("boatyard").unwrap(),
        hostnames: vec![Host::parse(domain).unwrap()],
        document_root: "/home/boatyard/www".into(),
        kind: SiteKind::AddonDomain,
        https: HttpsStates::default(),
        certificate: None,
        rules: SiteRules::default(),
    }
}

fn settings() -> Settings {
    let mut settings = Settings::default();
    settings.web.server = WebServer::Nginx;
    settings
}

fn layout() -> Layout {
    Layout::new("/harbor")
}

fn now() -> Timestamp {
    "2026-11-27T12:00:00Z".parse().unwrap()
}

fn request(sources: Sources, target: &str) -> AddRedirects {
    AddRedirects {
        sources,
        target: Target::parse(target, false).unwrap(),
        typed: target.into(),
        status: 301,
        keep_path: false,
        with_twin: false,
        until: Some("2026-12-25T00:00:00Z".parse().unwrap()),
    }
}

fn source(text: &str) -> Source {
    Source::parse(text, false).unwrap()
}

fn added(site: &Site, path: &str) -> Site {
    let request = request(Sources::One(source(path)), "/new");
    let loaded = AddRedirectsLoaded { sites: vec![(site.clone(), None)], ..AddRedirectsLoaded::default() };
    let plan = add_redirects(&request, &loaded, &settings(), &layout(), now()).unwrap();
    let mut all = plan.set.inventory_changes().filter_map(|change| match change {
        crate::change::InventoryChange::ReplaceSite { after, .. } => Some(after.clone()),
        _ => None,
    });
    all.next().unwrap()
}

#[test]
fn the_last_day_is_the_one_before_the_moment_it_ends() {
    let with = added(&site("gullrock.example"), "gullrock.example/old");
    assert_eq!(with.rules.redirects[0].last_day().unwrap().to_string(), "2026-12-24");
}

#[test]
fn the_sites_on_a_visitors_way_are_asked_for_one_by_one() {
    let request = request(Sources::One(source("gullrock.example/old")), "https://quay.example/boats");
    let mut loaded = AddRedirectsLoaded { sites: vec![(site("gullrock.example"), None)], ..Default::default() };
    let quay = Host::parse("quay.example").unwrap();
    let decide = |loaded: &AddRedirectsLoaded| add_redirects(&request, loaded, &settings(), &layout(), now());
    assert_eq!(decide(&loaded), Err(RedirectRefusal::NotLoaded(quay.clone())));
    loaded.others.insert(quay, None);
    assert!(decide(&loaded).is_ok());
    let small = AccountPlan {
        name: AccountName::parse("small").unwrap(),
        limits: Limits { redirects: Some(0), ..Limits::default() },
    };
    loaded.limit = Some((small, Usage::default()));
    assert!(matches!(decide(&loaded), Err(RedirectRefusal::Limit(_))));
}

#[test]
fn all_hostnames_of_an_account_are_sent_away() {
    let account = AccountName::parse("boatyard").unwrap();
    let below = request(Sources::AllOf(account.clone()), "/closed");
    let sites = vec![(site("gullrock.example"), None), (site("quay.example"), None)];
    let loaded = AddRedirectsLoaded { sites, ..Default::default() };
    // Everything below `/` leads to `/closed`, which lies below `/` as well.
    assert!(matches!(add_redirects(&below, &loaded, &settings(), &layout(), now()), Err(RedirectRefusal::Add(_))));
    let away = request(Sources::AllOf(account.clone()), "https://closed.example/");
    let mut several = site("gullrock.example");
    several.hostnames.extend(["www.gullrock.example", "quay.example"].map(|name| Host::parse(name).unwrap()));
    let mut loaded = AddRedirectsLoaded { sites: vec![(several, None)], ..Default::default() };
    loaded.others.insert(Host::parse("closed.example").unwrap(), None);
    let plan = add_redirects(&away, &loaded, &settings(), &layout(), now()).unwrap();
    let added: Vec<String> = plan
        .remarks
        .iter()
        .filter_map(|remark| match remark {
            Remark::Redirect(RedirectRemark::Added(one)) => Some(format!("{} {}", one.source, one.with_twin)),
            _ => None,
        })
        .collect();
    assert_eq!(added, ["gullrock.example true", "quay.example false"]);
    let none = add_redirects(&below, &AddRedirectsLoaded::default(), &settings(), &layout(), now());
    assert_eq!(none, Err(RedirectRefusal::NoSites(account)));
}

#[test]
fn a_day_that_is_over_is_refused_and_a_changed_target_is_told() {
    let mut request = request(Sources::One(source("gullrock.example/old")), "/a b");
    let loaded = AddRedirectsLoaded { sites: vec![(site("gullrock.example"), None)], ..Default::default() };
    let plan = add_redirects(&request, &loaded, &settings(), &layout(), now()).unwrap();
    let written = RedirectRemark::TargetWritten { typed: "/a b".into(), target: request.target.clone() };
    assert!(plan.remarks.contains(&written.into()), "{:?}", plan.remarks);
    request.until = Some("2026-11-27T00:00:00Z".parse().unwrap());
    let refused = add_redirects(&request, &loaded, &settings(), &layout(), now());
    assert_eq!(refused, Err(RedirectRefusal::Past(jiff::civil::date(2026, 11, 26))));
}

#[test]
fn the_twin_keeps_a_redirect_unless_it_goes_too() {
    let mut both = site("gullrock.example");
    both.hostnames.push(Host::parse("www.gullrock.example").unwrap());
    let mut with = added(&both, "gullrock.example/old");
    with.rules.redirects[0].with_twin = true;
    let left = |typed: &str, with_twin| {
        let plan = remove_redirects(&source(typed), with_twin, Some(&(with.clone(), None)), &settings(), &layout());
        let after = plan.unwrap().set.inventory_changes().find_map(|change| match change {
            crate::change::InventoryChange::ReplaceSite { after, .. } => Some(after.clone()),
            _ => None,
        });
        after.unwrap().rules.redirects.iter().map(|one| one.source.to_string()).collect::<Vec<_>>()
    };
    assert_eq!(left("gullrock.example/old", false), ["www.gullrock.example/old"]);
    assert_eq!(left("www.gullrock.example/old", false), ["gullrock.example/old"]);
    assert!(left("www.gullrock.example/old", true).is_empty());
}

#[test]
fn what_is_removed_is_named_and_what_is_over_ends_unless_somebody_edits_the_file() {
    let with = added(&site("gullrock.example"), "gullrock.example/old");
    let named = source("gullrock.example/old");
    let plan = remove_redirects(&named, false, Some(&(with.clone(), None)), &settings(), &layout()).unwrap();
    let removed = RedirectRemark::Removed { source: named.clone(), was_permanent: true };
    assert_eq!(plan.remarks, [Remark::from(removed)]);
    let other = source("gullrock.example/other");
    let refused = remove_redirects(&other, false, Some(&(with.clone(), None)), &settings(), &layout());
    assert_eq!(refused, Err(RedirectRefusal::NotThere(other.clone())));
    assert!(matches!(
        remove_redirects(&other, false, None, &settings(), &layout()),
        Err(RedirectRefusal::NotAttached(_))
    ));
    let at = |now: &str, file: Option<&str>| {
        let sites = [(with.clone(), file.map(|text| text.as_bytes().to_vec()))];
        let (plan, stuck) = end_redirects(&sites, &settings(), &layout(), now.parse().unwrap());
        (plan.remarks.len(), stuck.len())
    };
    assert_eq!(at("2026-12-24T23:59:59Z", None), (0, 0));
    assert_eq!(at("2026-12-25T00:00:00Z", None), (1, 0));
    assert_eq!(at("2026-12-25T00:00:00Z", Some("edited by hand")), (0, 1));
}

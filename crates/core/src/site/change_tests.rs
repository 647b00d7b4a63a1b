//! How a site is changed, and what a hand-made edit of its file asks for.

use jiff::Timestamp;

use super::*;
use crate::account::AccountName;
use crate::certificate::{CertificateDetails, CertificateFiles, CertificateSource, CertificateState};
use crate::harbor::WebServer;
use crate::name::Host;
use crate::site::{HttpsStates, SiteKind, SiteRules};

fn site() -> Site {
    Site {
        account: AccountName::parse("boatyard").unwrap(),
        hostnames: vec![Host::parse("gullrock.example").unwrap()],
        document_root: "/home/boatyard/www/gullrock.example".into(),
        kind: SiteKind::AddonDomain,
        https: HttpsStates::all(&[Host::parse("gullrock.example").unwrap()], HttpsState::Offered),
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

fn loaded() -> ChangeSiteLoaded {
    let file = render::site_file(&site(), &settings(), &layout()).unwrap();
    let account = Account::new(site().account, "yard@saltmarsh.example", "/home/boatyard");
    let (site_file, account) = (Some(file.into_bytes()), Some(account));
    ChangeSiteLoaded {
        site: site(),
        site_file,
        account,
        certificate: None,
        root_is_there: false,
        root_is_open: false,
        own: None,
        twin: None,
    }
}

fn certificate() -> Certificate {
    Certificate {
        site: site().main().clone(),
        names: site().hostnames,
        files: CertificateFiles { folder: "/harbor/certificates/1".into() },
        not_before: Timestamp::UNIX_EPOCH,
        not_after: Timestamp::MAX,
        state: CertificateState::Served,
        source: CertificateSource::Ca,
        details: CertificateDetails::default(),
    }
}

fn decide(request: &ChangeSite, loaded: &ChangeSiteLoaded) -> Result<Plan, SiteRefusal> {
    decide_change(request, loaded, &settings(), &layout(), jiff::civil::date(2026, 11, 27))
}

fn after(plan: &Plan) -> Site {
    let mut all = plan.set.inventory_changes().filter_map(|change| match change {
        InventoryChange::ReplaceSite { after, .. } => Some(after.clone()),
        _ => None,
    });
    all.next().expect("the site changes")
}

#[test]
fn a_hand_made_edit_is_a_consent_and_never_lost_without_it() {
    let mut edited = loaded();
    edited.site_file.as_mut().unwrap().extend_from_slice(b"# the yard's own line\n");
    let www = ChangeSite { www: Some(WwwPolicy::ToBare), ..ChangeSite::default() };
    let plan = decide(&www, &edited).unwrap();
    let [Consent::ReplacesHandEdit { path, written, found, .. }] = &plan.consents[..] else { panic!("{plan:?}") };
    assert_eq!(path, std::path::Path::new("/harbor/servers/nginx/gullrock.example.conf"));
    assert_eq!(*found, format!("{written}# the yard's own line\n"));
    let copy = layout().removed_site_file(site().main(), found.as_bytes());
    assert_eq!(plan.set.pending(&copy), Some(found.as_bytes()), "a copy is kept");
    assert!(plan.remarks.contains(&SiteRemark::EditKept { site: site().main().clone(), copy }.into()));
    // Without any option too: that is how it is written again.
    let plan = decide(&ChangeSite::default(), &edited).unwrap();
    assert_eq!((plan.consents.len(), plan.set.needs().web_reload), (1, true));
    let plan = decide(&www, &loaded()).unwrap();
    assert!(plan.consents.is_empty() && plan.set.needs().web_reload);
}

#[test]
fn a_file_that_is_gone_is_written_again_and_one_that_is_right_is_left_alone() {
    let plan = decide(&ChangeSite::default(), &loaded()).unwrap();
    assert!(plan.is_empty() && plan.remarks == [Remark::Unchanged]);
    let gone = ChangeSiteLoaded { site_file: None, ..loaded() };
    let plan = decide(&ChangeSite::default(), &gone).unwrap();
    assert!(plan.consents.is_empty() && plan.set.needs().web_reload);
}

#[test]
fn http_is_sent_to_https_at_once_only_for_names_with_a_certificate() {
    let forced = ChangeSite { https: Some(HttpsPolicy::Forced), ..ChangeSite::default() };
    assert!(matches!(decide(&forced, &loaded()).unwrap().remarks[..], [Remark::Unchanged]));
    let covered = ChangeSiteLoaded { certificate: Some(certificate()), ..loaded() };
    let plan = decide(&forced, &covered).unwrap();
    assert!(after(&plan).is_forced(site().main()));
    let mut more = covered.clone();
    let later = Host::parse("quay.example").unwrap();
    more.site.hostnames.push(later.clone());
    let plan = decide(&forced, &more).unwrap();
    let told = SiteRemark::HttpsForced { site: site().main().clone(), later: vec![later.clone()] };
    assert!(plan.remarks.contains(&told.into()) && !after(&plan).is_forced(&later), "{plan:?}");
    let mut live = covered.clone();
    live.site.https = HttpsStates::all(&live.site.hostnames, HttpsState::Forced);
    live.site_file = render::site_file(&live.site, &settings(), &layout()).map(String::into_bytes);
    let offered = ChangeSite { https: Some(HttpsPolicy::Offered), ..ChangeSite::default() };
    let offered = after(&decide(&offered, &live).unwrap());
    assert_eq!(offered.https_of(site().main()), HttpsState::Offered);
    assert_eq!(offered.rules.https_policy, HttpsPolicy::Offered);
}

#[test]
fn browsers_are_bound_to_https_only_where_it_is_forced() {
    let hsts = ChangeSite { hsts: Some(Some(60)), ..ChangeSite::default() };
    let refused = decide(&hsts, &loaded()).unwrap_err();
    assert_eq!(refused, SiteRefusal::HstsWithoutHttps(site().main().clone()));
    let covered = ChangeSiteLoaded { certificate: Some(certificate()), ..loaded() };
    let both = ChangeSite { https: Some(HttpsPolicy::Forced), ..hsts };
    assert_eq!(after(&decide(&both, &covered).unwrap()).rules.hsts, Some(60));
    let mut bound = loaded();
    bound.site.rules.hsts = Some(60);
    bound.site_file = render::site_file(&bound.site, &settings(), &layout()).map(String::into_bytes);
    let off = ChangeSite { hsts: Some(None), ..ChangeSite::default() };
    assert_eq!(after(&decide(&off, &bound).unwrap()).rules.hsts, None);
}

#[test]
fn another_document_root_is_new_or_said_to_be_there() {
    let root = |existing| ChangeSite { document_root: Some("yard".into()), existing, ..ChangeSite::default() };
    let plan = decide(&root(false), &loaded()).unwrap();
    assert_eq!(after(&plan).document_root, PathBuf::from("/home/boatyard/yard"));
    let Some(Change::MakeFolder(make)) = plan.set.changes.first() else { panic!("{plan:?}") };
    assert_eq!((make.below.as_path(), make.mode), (std::path::Path::new("yard"), 0o755));
    let there = ChangeSiteLoaded { root_is_there: true, ..loaded() };
    assert_eq!(decide(&root(false), &there), Err(SiteRefusal::RootIsThere("/home/boatyard/yard".into())));
    assert!(decide(&root(true), &there).is_ok());
    let outside = ChangeSite { document_root: Some("/etc".into()), ..ChangeSite::default() };
    assert!(matches!(decide(&outside, &loaded()), Err(SiteRefusal::OutsideHome { .. })));
    let lost = ChangeSiteLoaded { account: None, ..loaded() };
    assert!(matches!(decide(&root(true), &lost), Err(SiteRefusal::UnknownAccount(_))));
}

#[test]
fn a_twin_that_was_removed_comes_back_with_its_record_and_not_from_somebody_else() {
    use crate::name::Hostname;
    use crate::site::{ByHand, TwinLoaded, ZoneLoaded, missing_twin};
    use crate::zone::{Document, KeptZone, Zone, ZoneHome, ZonePlace};
    let also = ChangeSite { www: Some(WwwPolicy::Also), ..ChangeSite::default() };
    let www = Host::parse("www.gullrock.example").unwrap();
    assert_eq!(missing_twin(&also, &site()), Some(www.clone()));
    let none = ChangeSite { www: Some(WwwPolicy::None), ..ChangeSite::default() };
    assert_eq!(missing_twin(&none, &site()), None);
    let domain = Hostname::parse("gullrock.example").unwrap();
    let text =
        "$TTL 900\n@ SOA ns1.saltmarsh.example. host 7 4h 30m 4w 5m\n@ NS ns1.saltmarsh.example.\n@ A 192.0.2.10\n";
    let kept = KeptZone {
        document: Document::parse(text, &domain.dns_name()).unwrap(),
        zone: Zone::new(domain, site().account, ZoneHome::Here),
        place: ZonePlace::File { path: "/harbor/zones/gullrock.example.zone".into() },
    };
    let zone = Some(ZoneLoaded::Kept(Box::new(kept)));
    let twin = TwinLoaded { host: www.clone(), taken: None, by_hand: None, answered: None, zone };
    let mut with_address = settings();
    with_address.host.addresses = vec!["192.0.2.10".parse().unwrap()];
    let back = |twin: TwinLoaded| {
        let loaded = ChangeSiteLoaded { twin: Some(twin), ..loaded() };
        decide_change(&also, &loaded, &with_address, &layout(), jiff::civil::date(2026, 11, 27))
    };
    let plan = back(twin.clone()).unwrap();
    assert_eq!(after(&plan).hostnames, [site().main().clone(), www.clone()]);
    let zone = plan.set.pending(std::path::Path::new("/harbor/zones/gullrock.example.zone")).unwrap();
    assert!(String::from_utf8_lossy(zone).contains("www"), "the record comes back as well");
    let taken = TwinLoaded { taken: Some(site()), ..twin.clone() };
    assert!(matches!(back(taken), Err(SiteRefusal::AlreadyAttached { .. })));
    let answered = AnsweredBefore { host: www.clone(), address: "192.0.2.10:80".parse().unwrap(), status: Some(200) };
    let plan = back(TwinLoaded { answered: Some(answered.clone()), ..twin.clone() }).unwrap();
    assert_eq!(plan.consents, [Consent::TakesOverName(answered)]);
    let found = ByHand { host: www, file: "/etc/nginx/nginx.conf".into(), line: 7 };
    assert!(matches!(back(TwinLoaded { by_hand: Some(found), ..twin }), Err(SiteRefusal::ByHand(_))));
}

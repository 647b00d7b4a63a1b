//! The machine on tables: where each thing that happens takes a site.

use zeroize::Zeroizing;

use super::*;
use crate::account::AccountName;
use crate::certificate::securing::{Aside, Readied, Rest, install_arrived, settle_verified, title};
use crate::certificate::{CertificateDetails, CertificateFiles, Distrust, Means, Waiting};
use crate::change::InventoryChange;
use crate::harbor::{Layout, Settings, WebServer};
use crate::name::Hostname;
use crate::site::{HttpsState, HttpsStates, SiteKind, SiteRules};

fn host(text: &str) -> Host {
    Host::parse(text).unwrap()
}

fn site() -> Site {
    Site {
        account: AccountName::parse("boatyard").unwrap(),
        hostnames: ["gullrock.example", "www.gullrock.example"].map(host).to_vec(),
        document_root: "/home/boatyard/www".into(),
        kind: SiteKind::AddonDomain,
        https: HttpsStates::default(),
        certificate: None,
        rules: SiteRules::default(),
    }
}

fn with_wish(change: impl FnOnce(&mut CertificateWish)) -> Site {
    let mut site = site();
    change(&mut site.rules.certificate);
    site
}

fn now() -> Timestamp {
    "2026-11-27T12:00:00Z".parse().unwrap()
}

fn present() -> Present {
    Present {
        certificate: Certificate {
            site: host("gullrock.example"),
            names: site().hostnames,
            files: CertificateFiles { folder: "/harbor/certificates/1".into() },
            not_before: "2026-11-01T00:00:00Z".parse().unwrap(),
            not_after: "2027-01-30T00:00:00Z".parse().unwrap(),
            state: CertificateState::Served,
            source: CertificateSource::Ca,
            details: CertificateDetails::default(),
        },
        key: Some("EC P-256".into()),
        chain_pem: None,
        trusted: true,
    }
}

fn certificate(change: impl FnOnce(&mut Certificate)) -> Present {
    let mut present = present();
    change(&mut present.certificate);
    present
}

fn all_lead() -> Looked {
    Looked { leading: site().hostnames, ..Looked::default() }
}

fn looked_at(site: &Site, looked: Looked, wanted: Wanted, present: Option<Present>) -> Course {
    looked_when(site, looked, wanted, present, WhenUrgent::default())
}

fn looked_when(site: &Site, looked: Looked, wanted: Wanted, present: Option<Present>, urgent: WhenUrgent) -> Course {
    let mut course = Course::begin(site, wanted, present.as_ref(), None).unwrap();
    course.looked(looked, wanted, present, urgent, now());
    course
}

/// The stage in a word, with what is ordered.
fn stage(course: &Course) -> String {
    match &course.stage {
        Stage::ToLook => "look".into(),
        Stage::ToOrder(order) => {
            let names: Vec<&str> = order.names.iter().map(Host::as_str).collect();
            format!("order {}", names.join(" "))
        }
        Stage::Arrived(_) => "arrived".into(),
        Stage::InPlace { new, .. } => format!("in place, new: {new}"),
        Stage::Verified { .. } => "verified".into(),
        Stage::Settled { .. } => "settled".into(),
        Stage::Ended(SecureOutcome::NotYet) => "not yet".into(),
        Stage::Ended(SecureOutcome::Refused { why, .. }) => format!("refused: {}", why.reason),
        Stage::Ended(SecureOutcome::NotShown { reason, .. }) => format!("not shown: {reason}"),
        Stage::Ended(SecureOutcome::Served { .. }) => "served".into(),
    }
}

const BOTH: &str = "order gullrock.example www.gullrock.example";

#[test]
fn what_is_good_is_left_and_what_is_not_is_ordered() {
    let revoked = certificate(|one| one.state = CertificateState::Revoked);
    let imported = certificate(|one| {
        one.source = CertificateSource::Imported;
        one.not_before = "2026-01-01T00:00:00Z".parse().unwrap();
        one.not_after = "2026-11-28T00:00:00Z".parse().unwrap();
    });
    let expired = certificate(|one| {
        one.source = CertificateSource::Imported;
        one.not_after = now();
    });
    let other_ca = certificate(|one| one.details.ca = Some("pier".into()));
    let cases = [
        (None, Wanted::Enough, BOTH),
        (Some(present()), Wanted::Enough, "in place, new: false"),
        (Some(present()), Wanted::New, BOTH),
        (Some(present()), Wanted::NewKey, BOTH),
        (Some(certificate(|one| one.names.truncate(1))), Wanted::Enough, BOTH),
        (Some(certificate(|one| one.source = CertificateSource::SelfSigned)), Wanted::Enough, BOTH),
        (Some(certificate(|one| one.source = CertificateSource::Shared)), Wanted::Enough, BOTH),
        (Some(certificate(|one| one.not_after = "2026-12-01T00:00:00Z".parse().unwrap())), Wanted::Enough, BOTH),
        (Some(Present { key: Some("RSA 2048".into()), ..present() }), Wanted::Enough, BOTH),
        (Some(imported), Wanted::Enough, "in place, new: false"),
        (Some(expired), Wanted::Enough, BOTH),
        (Some(revoked), Wanted::Enough, BOTH),
        (Some(other_ca), Wanted::Enough, BOTH),
    ];
    for (present, wanted, expected) in cases {
        let shown = format!("{present:?} {wanted:?}");
        assert_eq!(stage(&looked_at(&site(), all_lead(), wanted, present)), expected, "{shown}");
    }
}

/// What is ordered, kept or asked for when a name cannot be had, and a certificate is in place.
#[test]
fn nothing_is_ordered_that_covers_no_more_and_nothing_is_lost_that_is_covered() {
    let mut three = site();
    three.hostnames.push(host("notyet.example"));
    let two = || Looked {
        leading: site().hostnames,
        left_out: vec![(host("notyet.example"), "is not registered".into())],
        ..Looked::default()
    };
    // A name whose links do not hold is no reason for an order.
    assert_eq!(stage(&looked_at(&three, two(), Wanted::Enough, Some(present()))), "in place, new: false");
    // Nor is one that was refused, until its pause is over; who asks by hand is not kept from it.
    let all = |until: &str| Looked {
        leading: three.hostnames.clone(),
        paused: vec![NamePause {
            name: host("notyet.example").into(),
            site: host("gullrock.example"),
            since: now(),
            not_before: until.parse().unwrap(),
            reason: "no".into(),
        }],
        ..Looked::default()
    };
    let (later, over) = ("2026-11-27T12:10:00Z", "2026-11-27T11:59:00Z");
    let course = looked_at(&three, all(later), Wanted::InTurn, Some(present()));
    assert_eq!((stage(&course).as_str(), course.left_out.len()), ("in place, new: false", 1));
    for (looked, wanted) in [(all(over), Wanted::InTurn), (all(later), Wanted::Enough)] {
        let course = looked_at(&three, looked, wanted, Some(present()));
        let Stage::ToOrder(order) = &course.stage else { panic!("{course:?}") };
        assert_eq!(order.names, three.hostnames);
        assert_eq!(order.rest(&three.hostnames[..2], &[]), Rest::AsGood);
        assert_eq!(order.rest(&three.hostnames[1..], &[]), Rest::CoversLess);
    }
    // A new one is wanted all the same, with no fewer names.
    let course = looked_at(&three, all(over), Wanted::New, Some(present()));
    let Stage::ToOrder(order) = &course.stage else { panic!("{course:?}") };
    assert_eq!(order.rest(&three.hostnames[..2], &[]), Rest::Order);
    // What is covered and cannot be proven now keeps the certificate in place, as long as that is not urgent.
    let bare = || Looked {
        leading: vec![host("gullrock.example")],
        left_out: vec![(host("www.gullrock.example"), "leads elsewhere".into())],
        ..Looked::default()
    };
    let lost =
        "refused: www.gullrock.example, which the certificate in place covers, cannot be proven now: leads elsewhere";
    assert_eq!(stage(&looked_at(&site(), bare(), Wanted::New, Some(present()))), lost);
    let ends = |at: &str| Some(certificate(|one| one.not_after = at.parse().unwrap()));
    let due = ends("2026-12-08T00:00:00Z");
    assert_eq!(stage(&looked_at(&site(), bare(), Wanted::InTurn, due)), lost);
    for (wanted, present) in [
        (Wanted::InTurn, ends("2026-12-01T00:00:00Z")),
        (Wanted::NewKey, Some(present())),
        (Wanted::CalledBack, Some(present())),
        (Wanted::New, Some(certificate(|one| one.state = CertificateState::Revoked))),
        (Wanted::New, Some(certificate(|one| one.source = CertificateSource::SelfSigned))),
    ] {
        assert_eq!(stage(&looked_at(&site(), bare(), wanted, present)), "order gullrock.example", "{wanted:?}");
    }
    // Then what is given up is named, and a setting waits instead, as long as there is something to wait with.
    let why = |course: &Course| course.left_out[0].1.clone();
    let urgent = || ends("2026-12-01T00:00:00Z");
    let told = why(&looked_at(&site(), bare(), Wanted::InTurn, urgent()));
    assert!(told.starts_with("leads elsewhere; the certificate before covers it and ends on 2026-12-01"), "{told}");
    let told = why(&looked_at(&site(), bare(), Wanted::NewKey, Some(present())));
    assert_eq!(told, "leads elsewhere; the certificate before covers it, and had to go");
    assert_eq!(why(&looked_at(&site(), bare(), Wanted::New, None)), "leads elsewhere");
    let waits = |present| stage(&looked_when(&site(), bare(), Wanted::InTurn, present, WhenUrgent::Wait));
    assert_eq!(waits(urgent()), lost);
    assert_eq!(waits(ends("2026-11-27T00:00:00Z")), "order gullrock.example", "it has ended");
    // The same for what the CA refuses.
    let mut course = looked_at(&site(), all_lead(), Wanted::InTurn, urgent());
    ordered(&mut course, vec![(host("www.gullrock.example").into(), "no".into())]);
    assert!(why(&course).starts_with("no; the certificate before covers it and ends on"), "{}", why(&course));
}

#[test]
fn a_wildcard_that_is_refused_takes_no_name_along() {
    let below = Hostname::parse("gullrock.example").unwrap();
    let wishing = with_wish(|wish| wish.wildcards = vec![below.clone()]);
    let course = looked_at(&wishing, all_lead(), Wanted::InTurn, Some(present()));
    let Stage::ToOrder(order) = &course.stage else { panic!("{course:?}") };
    assert_eq!(order.rest(&order.names, &[]), Rest::AsGood);
    let has_it = certificate(|one| one.details.wildcards = vec![below.clone()]);
    let pause = |name: Identifier| NamePause {
        name,
        site: host("gullrock.example"),
        since: now(),
        not_before: "2026-11-27T12:10:00Z".parse().unwrap(),
        reason: "no".into(),
    };
    let paused = Looked { paused: vec![pause(Identifier::below(&below))], ..all_lead() };
    let course = looked_at(&wishing, paused.clone(), Wanted::InTurn, Some(present()));
    assert_eq!((stage(&course).as_str(), course.left_out.len()), ("in place, new: false", 1));
    let course = looked_at(&wishing, paused, Wanted::InTurn, Some(has_it));
    assert!(stage(&course).starts_with("refused: *.gullrock.example, which"), "{course:?}");
}

#[test]
fn a_key_is_kept_only_where_nobody_else_may_have_it() {
    let keeping = with_wish(|wish| wish.keep_key = true);
    let kept = |wanted, present| match looked_at(&keeping, all_lead(), wanted, Some(present)).stage {
        Stage::ToOrder(order) => order.wish.keep_key,
        other => panic!("{other:?}"),
    };
    assert!(kept(Wanted::New, present()));
    assert!(!kept(Wanted::NewKey, present()));
    assert!(!kept(Wanted::New, certificate(|one| one.state = CertificateState::Revoked)));
}

#[test]
fn names_that_lead_elsewhere_are_left_out_and_the_fitting_proof_is_chosen() {
    let www = host("www.gullrock.example");
    let partly = || Looked {
        leading: vec![host("gullrock.example")],
        left_out: vec![(www.clone(), "leads elsewhere".into())],
        ..Looked::default()
    };
    let course = looked_at(&site(), partly(), Wanted::Enough, None);
    assert_eq!((stage(&course).as_str(), course.left_out.len()), ("order gullrock.example", 1));
    let nothing = looked_at(&site(), Looked::default(), Wanted::Enough, Some(present()));
    assert_eq!(stage(&nothing), "not yet");
    let closed = |means| Looked {
        leading: vec![www.clone()],
        without_http: vec![(host("gullrock.example"), "port 80 is closed".into())],
        means,
        ..Looked::default()
    };
    // In the site's order, not in that of how they were seen.
    let by_dns = Means { over_tls: false, by_dns: true };
    let course = looked_at(&site(), closed(by_dns), Wanted::Enough, None);
    let Stage::ToOrder(order) = &course.stage else { panic!("{course:?}") };
    assert_eq!((stage(&course).as_str(), order.wish.proof), (BOTH, ProofWish::Dns01));
    let course = looked_at(&site(), closed(Means::default()), Wanted::Enough, None);
    assert_eq!((stage(&course).as_str(), course.left_out.len()), ("order www.gullrock.example", 1));
    let by_dns = with_wish(|wish| wish.proof = ProofWish::Dns01);
    assert_eq!(Course::needs_no_look(&by_dns).unwrap().leading, site().hostnames);
    assert!(Course::needs_no_look(&site()).is_none());
}

#[test]
fn a_refusal_is_remembered_with_the_time_that_was_named_unless_somebody_else_is_at_it() {
    let named = "2026-11-27T13:00:00Z".parse().ok();
    let refused = |not_before, busy, stale_until, present| {
        let mut course = looked_at(&site(), Looked { stale_until, ..all_lead() }, Wanted::New, present);
        let why = NotIssued { code: "ca-refuses", reason: "no".into(), not_before, busy, names: vec![] };
        let remembered = course.ordered(Err(why));
        (remembered.map(|refused| refused.not_before), course.stage)
    };
    let (remembered, stage) = refused(named, false, None, Some(present()));
    assert_eq!(remembered, Some(named));
    let Stage::Ended(SecureOutcome::Refused { kept: Some(kept), .. }) = stage else { panic!("{stage:?}") };
    assert_eq!(kept, Kept::of(&present().certificate));
    let stale = "2026-11-27T12:05:00Z".parse().ok();
    assert_eq!(refused(None, false, stale, None).0, Some(stale));
    assert_eq!(refused(named, true, None, None).0, None);
}

fn issued(name: &str) -> Issued {
    let key = rcgen::KeyPair::generate().unwrap();
    let made = rcgen::CertificateParams::new(vec![name.to_string()]).unwrap().self_signed(&key).unwrap();
    Issued { chain_pem: made.pem(), key_pem: Zeroizing::new("KEY".into()), staple: None }
}

#[test]
fn what_demands_a_statement_is_put_in_place_with_one_or_not_at_all() {
    use crate::certificate::STATUS_REQUEST;
    let key = rcgen::KeyPair::generate().unwrap();
    let mut params = rcgen::CertificateParams::new(vec!["gullrock.example".into()]).unwrap();
    let feature = [1, 3, 6, 1, 5, 5, 7, 1, 24];
    params.custom_extensions = vec![rcgen::CustomExtension::from_oid_content(&feature, STATUS_REQUEST.to_vec())];
    let chain_pem = params.self_signed(&key).unwrap().pem();
    let plan = |staple: Option<Vec<u8>>, stapled: bool| {
        let issued = Issued { chain_pem: chain_pem.clone(), key_pem: Zeroizing::new("KEY".into()), staple };
        let names = vec![host("gullrock.example")];
        let arrived = Arrived { issued, names, wildcards: vec![], ca: None, profile: None, stapled };
        let mut readied = readied();
        readied.site.rules.certificate.stapled = true;
        install_arrived(&arrived, &readied, &settings(), &Layout::new("/harbor"), now())
    };
    assert!(matches!(plan(None, true), Err(CertificateRefusal::NoStaple { .. })));
    let details = |plan: crate::change::Plan| {
        let recorded = plan.set.inventory_changes().find_map(|change| match change {
            InventoryChange::RecordCertificate(certificate) => Some(certificate.clone()),
            _ => None,
        });
        recorded.unwrap()
    };
    let certificate = details(plan(Some(vec![1]), true).unwrap());
    assert!(certificate.files.is_stapled() && certificate.details.stapled && !certificate.details.unstapled);
    let given_up = details(plan(Some(vec![1]), false).unwrap());
    assert!(!given_up.details.stapled && given_up.details.unstapled, "what was asked for in the end");
}

fn ordered(course: &mut Course, refused: Vec<(Identifier, String)>) {
    let names = vec![host("gullrock.example")];
    let ordered = Ordered {
        issued: Some(issued("gullrock.example")),
        names,
        wildcards: vec![],
        ca: None,
        profile: None,
        stapled: false,
        refused,
        aside: None,
    };
    assert_eq!(course.ordered(Ok(ordered)), None);
}

#[test]
fn what_visitors_would_not_trust_is_laid_aside_where_they_trust_what_is_in_place() {
    let order = |present: Option<Present>| match looked_at(&site(), all_lead(), Wanted::New, present).stage {
        Stage::ToOrder(order) => order,
        stage => panic!("{stage:?}"),
    };
    let distrust = || Err(Distrust::UnknownIssuer);
    assert!(order(Some(present())).lays_aside(&distrust()));
    assert!(!order(Some(present())).lays_aside(&Ok(())));
    // Nothing is lost by it there.
    assert!(!order(None).lays_aside(&distrust()));
    assert!(!order(Some(Present { trusted: false, ..present() })).lays_aside(&distrust()));
    assert!(!order(Some(certificate(|one| one.state = CertificateState::Revoked))).lays_aside(&distrust()));

    let mut course = looked_at(&site(), all_lead(), Wanted::New, Some(present()));
    let aside =
        Aside { distrust: Distrust::UnknownIssuer, folder: "/harbor/certificates/gullrock.example/aside".into() };
    let names = site().hostnames;
    let issued = Some(issued("gullrock.example"));
    let remembered = course.ordered(Ok(Ordered {
        issued,
        names,
        wildcards: vec![],
        ca: None,
        profile: None,
        stapled: false,
        refused: vec![],
        aside: Some(aside),
    }));
    assert!(remembered.unwrap().reason.contains("/harbor/certificates/gullrock.example/aside"), "for `tend`");
    let Stage::Ended(SecureOutcome::Refused { why, kept: Some(kept) }) = course.stage else { panic!() };
    assert_eq!((why.code, kept), ("issued-untrusted", Kept::of(&present().certificate)));
}

fn all_shown() -> Shown {
    Shown { hosts: site().hostnames, others: vec![] }
}

/// What was shown for one host is settled; the certificate is not called served, and the other stays on http.
#[test]
fn a_host_that_shows_another_certificate_holds_up_no_other() {
    let whole = certificate(|one| one.state = CertificateState::Installed).certificate;
    let partly = Shown {
        hosts: vec![host("gullrock.example")],
        others: vec![(host("www.gullrock.example"), "another certificate is shown".into())],
    };
    let plan = settle_verified(&whole, &partly, &readied(), &settings(), &Layout::new("/harbor"));
    let mut forced = HttpsStates::default();
    forced.set(&host("gullrock.example"), HttpsState::Forced);
    let changes: Vec<&InventoryChange> = plan.set.inventory_changes().collect();
    assert!(matches!(changes[0], InventoryChange::ReplaceSite { after, .. } if after.https == forced), "{changes:?}");
    assert!(!changes.iter().any(|change| matches!(change, InventoryChange::RecordCertificate(_))), "{changes:?}");
    let mut course = Course::in_place(&site(), &whole);
    course.shown(partly);
    assert!(course.is_to_apply());
    course.applied(None).unwrap();
    assert_eq!(stage(&course), "not shown: www.gullrock.example: another certificate is shown");
}

fn readied() -> Readied {
    let (site, waiting) =
        (site(), Waiting { site: host("gullrock.example"), since: now(), not_before: None, reason: String::new() });
    Readied { site, site_file: None, waiting: Some(waiting) }
}

fn settings() -> Settings {
    let mut settings = Settings::default();
    settings.web.server = WebServer::Nginx;
    settings
}

#[test]
fn from_an_order_to_https() {
    let mut course = looked_at(&site(), all_lead(), Wanted::Enough, None);
    ordered(&mut course, vec![(host("www.gullrock.example").into(), "timeout".into())]);
    assert!(course.is_to_apply() && title(&[&course]) == "certificate issue gullrock.example");
    let Stage::Arrived(arrived) = &course.stage else { panic!("{course:?}") };
    let layout = Layout::new("/harbor");
    let plan = install_arrived(arrived, &readied(), &settings(), &layout, now()).unwrap();
    let recorded = plan.set.inventory_changes().find_map(|change| match change {
        InventoryChange::RecordCertificate(certificate) => Some(certificate.clone()),
        _ => None,
    });
    course.applied(recorded).unwrap();
    assert_eq!(stage(&course), "in place, new: true");
    assert_eq!(course.partly_refused(), None, "nothing is served yet");
    course.shown(all_shown());
    assert_eq!(stage(&course), "verified");
    assert_eq!(course.partly_refused().unwrap().reason, "www.gullrock.example: timeout");
    course.applied(None).unwrap();
    let secured = course.ended().unwrap();
    let SecureOutcome::Served { certificate, new: true } = &secured.outcome else { panic!("{secured:?}") };
    assert_eq!((certificate.state, secured.left_out.len()), (CertificateState::Served, 1));
}

#[test]
fn what_came_for_other_names_is_not_installed_and_what_is_lost_is_told() {
    let arrived = Arrived {
        issued: issued("quay.example"),
        names: vec![host("gullrock.example")],
        wildcards: vec![],
        ca: None,
        profile: None,
        stapled: false,
    };
    let refused = install_arrived(&arrived, &readied(), &settings(), &Layout::new("/harbor"), now()).unwrap_err();
    assert_eq!(refused, CertificateRefusal::OrderedNotCovered { name: host("gullrock.example") });
    let mut course = looked_at(&site(), all_lead(), Wanted::Enough, None);
    ordered(&mut course, vec![]);
    assert_eq!(course.applied(None), Err(CertificateRefusal::Detached(host("gullrock.example"))));
    let mut course = Course::in_place(&site(), &present().certificate);
    course.shown(Shown {
        hosts: vec![],
        others: vec![(host("gullrock.example"), "another certificate is shown".into())],
    });
    assert_eq!(stage(&course), "not shown: gullrock.example: another certificate is shown");
    assert!(!course.ended().unwrap().is_shown());
}

#[test]
fn a_share_needs_no_look_and_covers_all_names_or_refuses() {
    let sharing = with_wish(|wish| wish.from = Some(host("quay.example")));
    let both = Issued { chain_pem: two_names(), key_pem: Zeroizing::new("KEY".into()), staple: None };
    let begin = |shared| Course::begin(&sharing, Wanted::Enough, None, Some(shared)).map(|course| stage(&course));
    assert_eq!(begin(Ok(&both)).unwrap(), "arrived");
    let has_it = Present { chain_pem: Some(both.chain_pem.clone()), ..present() };
    let again = Course::begin(&sharing, Wanted::Enough, Some(&has_it), Some(Ok(&both))).unwrap();
    assert_eq!(stage(&again), "in place, new: false");
    let one = issued("gullrock.example");
    assert!(matches!(begin(Ok(&one)), Err(CertificateRefusal::NotCovered { .. })));
    let nothing = CertificateRefusal::NothingToShare { site: host("gullrock.example"), from: host("quay.example") };
    assert_eq!(begin(Err(nothing.clone())), Err(nothing));
}

fn two_names() -> String {
    let key = rcgen::KeyPair::generate().unwrap();
    let names: Vec<String> = site().hostnames.iter().map(ToString::to_string).collect();
    rcgen::CertificateParams::new(names).unwrap().self_signed(&key).unwrap().pem()
}

#[test]
fn only_what_was_installed_is_verified_where_nothing_is_to_be_ordered() {
    let begin = |present: Option<Present>| {
        stage(&Course::begin(&site(), Wanted::Verification, present.as_ref(), None).unwrap())
    };
    assert_eq!(begin(Some(present())), "in place, new: false");
    assert_eq!(begin(None), "not yet");
}

#[test]
fn a_handshake_ends_the_wait_but_for_a_stop_gap() {
    let settled = |certificate: &Certificate, readied: &Readied| {
        let plan = settle_verified(certificate, &all_shown(), readied, &settings(), &Layout::new("/harbor"));
        let ends = plan.set.inventory_changes().any(|change| matches!(change, InventoryChange::EndWait { .. }));
        let forced = plan.set.inventory_changes().any(
            |change| matches!(change, InventoryChange::ReplaceSite { after, .. } if after.is_forced(after.main())),
        );
        (ends, forced, plan.is_empty())
    };
    let whole = certificate(|one| one.state = CertificateState::Installed).certificate;
    assert_eq!(settled(&whole, &readied()), (true, true, false));
    let stop_gap = Certificate { source: CertificateSource::SelfSigned, ..whole.clone() };
    assert_eq!(settled(&stop_gap, &readied()), (false, false, false));
    // What is as it should be already is not written again.
    let mut done = readied();
    (done.waiting, done.site.https) = (None, HttpsStates::all(&site().hostnames, HttpsState::Forced));
    assert_eq!(settled(&present().certificate, &done), (false, false, true));
}

#[test]
fn the_logbook_says_how_many_came_and_how_many_are_served() {
    let mut arrived = looked_at(&site(), all_lead(), Wanted::Enough, None);
    ordered(&mut arrived, vec![]);
    let mut shown = Course::in_place(&site(), &present().certificate);
    shown.shown(all_shown());
    assert_eq!(title(&[&shown]), "certificate of gullrock.example is served");
    assert_eq!(title(&[&shown, &shown]), "certificates of 2 sites are served");
    assert_eq!(title(&[&arrived, &arrived]), "certificate issue for 2 sites");
    assert_eq!(title(&[&arrived, &shown]), "certificate issue for 1 sites; those of 1 are served");
}

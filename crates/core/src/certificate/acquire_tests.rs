//! Certificates from elsewhere: which are refused, and what is told of those that are installed.

use super::*;
use crate::account::AccountName;
use crate::certificate::{CertificateFacts, CertificateFiles, CertificateState};
use crate::change::Remark;
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

fn pem(name: &str) -> (String, CertificateFacts) {
    let key = rcgen::KeyPair::generate().unwrap();
    let made = rcgen::CertificateParams::new(vec![name.to_string()]).unwrap().self_signed(&key).unwrap();
    let facts = read_chain(made.pem().as_bytes()).unwrap().remove(0);
    (made.pem(), facts)
}

fn now() -> Timestamp {
    "2026-11-27T12:00:00Z".parse().unwrap()
}

fn present(source: CertificateSource) -> Certificate {
    Certificate {
        site: site("gullrock.example").main().clone(),
        names: site("gullrock.example").hostnames,
        files: CertificateFiles { folder: "/harbor/certificates/1".into() },
        not_before: Timestamp::UNIX_EPOCH,
        not_after: "2027-01-01T00:00:00Z".parse().unwrap(),
        state: CertificateState::Served,
        source,
        details: CertificateDetails::default(),
    }
}

fn receiving(present: Option<Certificate>) -> Receiving {
    Receiving { site: site("gullrock.example"), site_file: None, present, waits: true }
}

fn imported(
    judged: Result<(), Distrust>,
    untrusted: bool,
    present: Option<Certificate>,
) -> Result<Plan, CertificateRefusal> {
    let (_, leaf) = pem("gullrock.example");
    let made = Assembled { chain: vec![leaf], missing: Some("CN=Seller".into()), said: vec!["one".into()] };
    let bought = Bought {
        made,
        key_pem: "KEY",
        judged,
        untrusted,
        found: &[],
        source: CertificateSource::Imported,
        revoked: false,
        staple: Ok(None),
    };
    import_certificate(&bought, &receiving(present), &Settings::default(), &Layout::new("/harbor"), now())
}

#[test]
fn nothing_that_visitors_are_warned_of_takes_the_place_of_what_they_trust() {
    let warned = || Err(Distrust::Other("unknown issuer".into()));
    let good = || Some(present(CertificateSource::Ca));
    let refused = imported(warned(), false, good()).unwrap_err();
    assert!(matches!(refused, CertificateRefusal::Untrusted { .. }), "{refused:?}");
    let stop_gap = imported(warned(), false, Some(present(CertificateSource::SelfSigned))).unwrap();
    let missing = |remark: &&Remark| matches!(remark, Remark::Certificate(CertificateRemark::MissingIssuer { .. }));
    assert_eq!(stop_gap.remarks.iter().filter(missing).count(), 1);
    let anyway = imported(warned(), true, good()).unwrap();
    let told = |remark: &&Remark| matches!(remark, Remark::Certificate(CertificateRemark::Distrusted { .. }));
    assert_eq!(anyway.remarks.iter().filter(told).count(), 1);
    let trusted = imported(Ok(()), false, good()).unwrap();
    assert_eq!(trusted.remarks.iter().filter(missing).count(), 0, "the root is one that programs bring along");
    let ended = |change: &&InventoryChange| matches!(change, InventoryChange::EndWait { .. });
    assert_eq!(trusted.set.inventory_changes().filter(ended).count(), 1);
}

#[test]
fn a_stop_gap_takes_the_place_of_nothing_better() {
    let (chain, _) = pem("gullrock.example");
    let made = SelfSigned { chain_pem: &chain, key_pem: "KEY", days: 30 };
    let decide =
        |present| install_stop_gap(made, &receiving(present), &Settings::default(), &Layout::new("/harbor"), now());
    assert!(matches!(decide(Some(present(CertificateSource::Ca))), Err(CertificateRefusal::HasBetter { .. })));
    assert!(decide(Some(present(CertificateSource::SelfSigned))).is_ok());
    let over = Certificate { not_after: now(), ..present(CertificateSource::Imported) };
    assert!(decide(Some(over)).is_ok());
    assert_eq!(decide(None).unwrap().set.changes.len(), 4);
}

#[test]
fn a_wildcard_is_the_first_name_of_a_request_and_stands_below_the_bare_name() {
    let www = Host::parse("www.gullrock.example").unwrap();
    let names = |below| -> Vec<String> {
        requested(&site("gullrock.example"), below).unwrap().iter().map(ToString::to_string).collect()
    };
    assert_eq!(names(None), ["gullrock.example"]);
    assert_eq!(names(Some(&www)), ["*.gullrock.example", "gullrock.example"]);
    let address = Host::parse("192.0.2.10").unwrap();
    assert_eq!(wildcard_parent(&address), Err(CertificateRefusal::NothingBelow(address)));
    let plan = keep_request(
        &site("gullrock.example"),
        vec![],
        "KEY",
        "REQUEST",
        Some("/root/gullrock.csr".into()),
        &Layout::new("/harbor"),
        now(),
    );
    assert!(
        plan.set
            .pending(std::path::Path::new("/harbor/requests/gullrock.example/20261127-120000-000/key.pem"))
            .is_some()
    );
    assert!(plan.set.pending(std::path::Path::new("/root/gullrock.csr")).is_some());
}

#[test]
fn a_certificate_is_shared_with_sites_whose_names_it_covers() {
    let (chain, _) = pem("*.gullrock.example");
    let (below, from) = (site("shop.gullrock.example"), site("gullrock.example"));
    let plan = share(&below, &from, Some(&chain)).unwrap();
    let after = plan.set.inventory_changes().find_map(|change| match change {
        InventoryChange::ReplaceSite { after, .. } => Some(after.clone()),
        _ => None,
    });
    let after = after.unwrap();
    assert_eq!(after.rules.certificate.from.as_ref(), Some(from.main()));
    assert!(share(&after, &from, Some(&chain)).unwrap().is_empty(), "it is shared already");
    assert!(matches!(share(&from, &from, Some(&chain)), Err(CertificateRefusal::OneSite { .. })));
    assert!(matches!(share(&below, &from, None), Err(CertificateRefusal::NothingToShare { .. })));
    let quay = site("quay.example");
    assert!(matches!(share(&quay, &from, Some(&chain)), Err(CertificateRefusal::NotCovered { .. })));
    assert!(matches!(share(&quay, &after, Some(&chain)), Err(CertificateRefusal::SharedAlready { .. })));
}

#[test]
fn certificates_for_several_sites_are_nothing_to_choose_among() {
    let (boats, choir) = (site("gullrock.example"), site("lanternchoir.example"));
    assert_eq!(only_site(vec![boats.clone(), boats.clone()]).unwrap().main(), boats.main());
    assert_eq!(only_site(vec![]).unwrap_err(), CertificateRefusal::NoSite);
    let refused = only_site(vec![boats.clone(), choir.clone(), boats.clone()]).unwrap_err();
    assert_eq!(refused, CertificateRefusal::WhichSite { sites: vec![boats.main().clone(), choir.main().clone()] });
}

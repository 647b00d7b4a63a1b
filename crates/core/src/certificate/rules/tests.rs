//! For every rule what makes it fire, and a good server on which none does; and the folder is read for rules left out.

use rcgen::{BasicConstraints, CertificateParams, DistinguishedName, DnType, IsCa, Issuer, KeyPair};

use super::*;
use crate::certificate::{Distrust, RevocationStatus, SuiteFamily, TlsVersion, read_chain};
use crate::finding::check_folder;
use crate::name::Host;
use crate::site::TlsFloor;

fn authority(name: &str, by: Option<&Issuer<'static, KeyPair>>) -> (CertificateFacts, Issuer<'static, KeyPair>) {
    let key = KeyPair::generate().unwrap();
    let mut params = CertificateParams::new(vec![]).unwrap();
    params.distinguished_name = DistinguishedName::new();
    params.distinguished_name.push(DnType::CommonName, name);
    params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    let made = match by {
        Some(issuer) => params.signed_by(&key, issuer).unwrap(),
        None => params.self_signed(&key).unwrap(),
    };
    (read_chain(made.pem().as_bytes()).unwrap().remove(0), Issuer::new(params, key))
}

/// A server that is as it should be, and the root that its chain leads to.
fn good() -> (Served, CertificateFacts) {
    let (root, root_issuer) = authority("Tide root", None);
    let (middle, issuer) = authority("Tide issuer", Some(&root_issuer));
    let key = KeyPair::generate().unwrap();
    let mut params = CertificateParams::new(vec!["gullrock.example".into()]).unwrap();
    params.not_before = rcgen::date_time_ymd(2026, 11, 1);
    params.not_after = rcgen::date_time_ymd(2027, 1, 30);
    let leaf = read_chain(params.signed_by(&key, &issuer).unwrap().pem().as_bytes()).unwrap().remove(0);
    let served = Served {
        host: "gullrock.example".into(),
        address: "192.0.2.10:443".parse().unwrap(),
        seen_at: "2026-11-23T07:00:00Z".parse().unwrap(),
        failed: None,
        chain: vec![leaf, middle],
        verified: Ok(()),
        versions: vec![TlsVersion::Tls12, TlsVersion::Tls13],
        suites: vec![SuiteFamily::Authenticated, SuiteFamily::BlockChaining],
        by_hand: false,
        alpn: Some("h2".into()),
        staple: None,
        revocation: RevocationStatus::Good,
        hsts: Some(86_400),
        speaks_http: true,
        without_name: None,
        start_tls: None,
        asked_for: None,
        asks_for_client: false,
    };
    (served, root)
}

fn fired(spoil: impl FnOnce(&mut Served, &CertificateFacts)) -> Vec<&'static str> {
    fired_beside(&["gullrock.example"], spoil)
}

/// The same for a site with these names.
fn fired_beside(names: &[&str], spoil: impl FnOnce(&mut Served, &CertificateFacts)) -> Vec<&'static str> {
    let (mut served, root) = good();
    let beside = names.iter().map(|name| Host::parse(name).unwrap()).collect();
    let leaf = Some(served.chain[0].der.clone());
    let installed = Installed { leaf, beside, tls: Some(TlsFloor::Tls12), hsts: Some(86_400) };
    spoil(&mut served, &root);
    judge(&served, &installed).iter().map(|finding| finding.code).collect()
}

/// A good server of a site with other settings.
fn fired_as_set(set: impl FnOnce(&mut Installed)) -> Vec<&'static str> {
    let (served, _) = good();
    let leaf = Some(served.chain[0].der.clone());
    let mut installed = Installed { leaf, hsts: served.hsts.map(|seconds| seconds as u32), ..Installed::default() };
    set(&mut installed);
    judge(&served, &installed).iter().map(|finding| finding.code).collect()
}

#[test]
fn what_a_site_is_set_to_is_asked_of_its_own_server_alone() {
    assert_eq!(fired_as_set(|installed| installed.hsts = None), [""; 0]);
    let elsewhere = |installed: &mut Installed| {
        installed.leaf = None;
        installed.tls = Some(TlsFloor::Tls13);
        installed.hsts = Some(7);
    };
    assert_eq!(fired_as_set(elsewhere), [""; 0]);
    // Mail servers and the second look at other keys show no page.
    let silent = fired(|served, _| {
        served.start_tls = Some(crate::certificate::StartTls::Smtp);
        served.hsts = None;
    });
    assert_eq!(silent, [""; 0]);
}

fn triggers() -> Vec<(&'static str, Vec<&'static str>)> {
    let untrusted = || Err(Distrust::UnknownIssuer);
    let revoked = || RevocationStatus::Revoked { since: "2026-11-20T00:00:00Z".parse().unwrap(), reason: None };
    vec![
        ("served-revoked", fired(|served, _| served.revocation = revoked())),
        (
            "tls-not-spoken",
            fired(|served, _| {
                served.failed = Some("connection refused".into());
                served.chain.clear();
            }),
        ),
        (
            "served-name-not-covered",
            fired(|served, _| {
                served.host = "www.gullrock.example".into();
                served.verified = Err(Distrust::Name);
            }),
        ),
        (
            "served-expired",
            fired(|served, _| {
                served.seen_at = "2027-01-31T00:00:00Z".parse().unwrap();
                served.verified = Err(Distrust::Expired);
            }),
        ),
        ("served-expires-soon", fired(|served, _| served.seen_at = "2027-01-26T00:00:00Z".parse().unwrap())),
        (
            "chain-issuer-missing",
            fired(|served, _| {
                served.chain.truncate(1);
                served.verified = untrusted();
            }),
        ),
        (
            "served-not-trusted",
            fired(|served, root| {
                served.chain.push(root.clone());
                served.verified = untrusted();
            })
            .into_iter()
            .filter(|code| *code != "chain-root-sent")
            .collect(),
        ),
        ("chain-root-sent", fired(|served, root| served.chain.push(root.clone()))),
        ("chain-out-of-order", fired(|served, _| served.chain.push(good().0.chain[1].clone()))),
        ("served-weak", fired(|served, _| served.chain[0].key_bits = 1024)),
        ("old-tls-offered", fired(|served, _| served.versions.insert(0, TlsVersion::Tls10))),
        ("hsts-not-as-set", fired(|served, _| served.hsts = Some(86_399))),
        ("hsts-not-as-set", fired(|served, _| served.hsts = None)),
        ("older-tls-than-set", fired_as_set(|installed| installed.tls = Some(TlsFloor::Tls13))),
        ("site-name-not-covered", fired_beside(&["gullrock.example", "www.gullrock.example"], |_, _| ())),
        (
            "served-name-not-covered",
            fired_beside(&["192.0.2.10"], |served, _| {
                served.host = "192.0.2.10".into();
                served.verified = Err(Distrust::Name);
            }),
        ),
        (
            "staple-worthless",
            fired(|served, _| served.staple = Some(RevocationStatus::Unknown("the OCSP answer is out of date".into()))),
        ),
        ("staple-missing", fired(|served, _| served.chain[0].must_staple = true)),
        ("weak-cipher-accepted", fired(|served, _| served.suites.push(SuiteFamily::Rc4))),
        (
            "old-suites-alone",
            fired(|served, _| {
                served.versions = vec![TlsVersion::Tls12];
                served.suites = vec![SuiteFamily::KeyTransport];
            }),
        ),
        ("served-not-installed", fired(|served, _| served.chain = good().0.chain)),
    ]
}

#[test]
fn a_good_server_has_no_findings() {
    assert_eq!(fired(|_, _| ()), [""; 0]);
}

#[test]
fn each_rule_fires_on_its_own_fault_alone() {
    for (code, fired) in triggers() {
        assert_eq!(fired, [code]);
    }
}

#[test]
fn every_file_of_the_folder_is_a_registered_rule_with_texts_and_a_trigger() {
    let texts: Vec<_> = ALL.iter().map(|rule| rule.text).collect();
    check_folder("certificate/rules", &texts, &triggers().iter().map(|(code, _)| *code).collect::<Vec<_>>());
}

#[test]
fn what_can_be_done_where_nothing_is_spoken_depends_on_what_was_asked() {
    let cure = |spoil: fn(&mut Served)| {
        let (mut served, _) = good();
        served.failed = Some("nothing".into());
        spoil(&mut served);
        let findings = judge(&served, &Installed::default());
        findings.into_iter().find(|finding| finding.code == "tls-not-spoken").unwrap().cure
    };
    assert!(cure(|_| {}).contains("web server"));
    assert!(cure(|served| served.start_tls = Some(crate::certificate::StartTls::Imap)).contains("STARTTLS"));
    assert!(cure(|served| served.address = "0.0.0.0:443".parse().unwrap()).contains("--at"));
}

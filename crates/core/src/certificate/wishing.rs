//! The decision how the certificate of a site is obtained from now on: kept with the site, so that renewals do the same.

use std::collections::BTreeMap;

use super::{CertificateRefusal, CertificateRemark, CertificateWish, KeyKind, ProofWish, wildcard_parent};
use crate::change::{InventoryChange, Plan};
use crate::harbor::Settings;
use crate::name::Host;
use crate::site::Site;

/// What is typed to leave the kind of certificate to the CA.
const NO_PROFILE: &str = "none";

/// What was asked for; `None` leaves it as it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WishChange {
    /// The name that was typed: a wildcard covers those below it.
    pub name: Host,
    /// By its name in the settings; that of `[ca]` is `default`.
    pub ca: Option<String>,
    pub key: Option<KeyKind>,
    pub keep_key: Option<bool>,
    pub proof: Option<ProofWish>,
    pub wildcard: Option<bool>,
    /// The CA's name for the kind; `none` leaves the kind to the CA.
    pub profile: Option<String>,
    pub stapled: Option<bool>,
}

impl WishChange {
    /// The wish of a site with what was asked for.
    pub fn over(&self, before: &CertificateWish, settings: &Settings) -> Result<CertificateWish, CertificateRefusal> {
        // Whoever orders one wants no share of another.
        let mut wish = CertificateWish { from: None, ..before.clone() };
        match self.ca.as_deref() {
            None => {}
            Some("default") => wish.ca = None,
            Some(named) if settings.cas.contains_key(named) => wish.ca = Some(named.to_string()),
            Some(named) => {
                let known = settings.cas.keys().cloned().collect();
                return Err(CertificateRefusal::UnknownCa { ca: named.to_string(), known });
            }
        }
        match self.profile.as_deref() {
            Some(NO_PROFILE) => wish.profile = None,
            Some(named) => wish.profile = Some(named.to_string()),
            // Another CA has other names for its kinds.
            None if wish.ca != before.ca => wish.profile = None,
            None => {}
        }
        wish.key = self.key.unwrap_or(wish.key);
        wish.keep_key = self.keep_key.unwrap_or(wish.keep_key);
        wish.stapled = self.stapled.unwrap_or(wish.stapled);
        wish.proof = self.proof.unwrap_or(wish.proof);
        if self.proof == Some(ProofWish::TlsAlpn01) && settings.web.tls_alpn_listen.is_none() {
            return Err(CertificateRefusal::NoResponder);
        }
        match self.wildcard {
            Some(true) => {
                let parent = wildcard_parent(&self.name)?;
                if !wish.wildcards.contains(&parent) {
                    wish.wildcards.push(parent);
                }
            }
            Some(false) => {
                let parent = wildcard_parent(&self.name).ok();
                wish.wildcards.retain(|one| Some(one) != parent.as_ref());
            }
            None => {}
        }
        match wish.wildcards.first() {
            Some(parent) if wish.proof == ProofWish::Http01 => {
                Err(CertificateRefusal::WildcardProof { parent: parent.clone() })
            }
            _ => Ok(wish),
        }
    }

    /// The profile that is asked for by name.
    pub fn named_profile(&self) -> Option<&str> {
        self.profile.as_deref().filter(|profile| *profile != NO_PROFILE)
    }

    /// Refuses a profile that its CA does not offer.
    pub fn refuse_unoffered(&self, offered: &BTreeMap<String, String>) -> Result<(), CertificateRefusal> {
        match self.named_profile().filter(|profile| !offered.contains_key(*profile)) {
            None => Ok(()),
            Some(profile) => Err(CertificateRefusal::Profile {
                profile: profile.to_string(),
                offered: offered.keys().cloned().collect(),
            }),
        }
    }

    /// The site with the wish.
    pub fn of_site(&self, site: &Site, settings: &Settings) -> Result<Site, CertificateRefusal> {
        let mut after = site.clone();
        *after.rules.certificate = self.over(&site.rules.certificate, settings)?;
        Ok(after)
    }
}

/// Decides that the wish is kept with the site; nothing changes if it is there.
pub fn keep_wish(site: &Site, wish: &WishChange, settings: &Settings) -> Result<Plan, CertificateRefusal> {
    let after = wish.of_site(site, settings)?;
    let mut plan = Plan::new(format!("how the certificate of {} is obtained", site.main()));
    if after != *site {
        if after.rules.certificate.stapled && !site.rules.certificate.stapled {
            let services = settings.services.iter().filter(|(_, service)| site.has(&service.hostname));
            services.for_each(|(name, _)| plan.remark(CertificateRemark::ServiceMustStaple { service: name.clone() }));
        }
        plan.set.inventory(InventoryChange::ReplaceSite { before: site.clone(), after });
    }
    Ok(plan)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::harbor::Ca;

    fn wish() -> WishChange {
        let name = Host::parse("www.gullrock.example").unwrap();
        WishChange {
            name,
            ca: None,
            key: None,
            keep_key: None,
            proof: None,
            wildcard: None,
            profile: None,
            stapled: None,
        }
    }

    fn settings() -> Settings {
        let mut settings = Settings::default();
        settings.cas.insert("pier".into(), Ca::default());
        settings
    }

    fn over(change: &WishChange, before: &CertificateWish) -> Result<CertificateWish, CertificateRefusal> {
        change.over(before, &settings())
    }

    #[test]
    fn what_is_not_named_stays_but_a_share_ends() {
        let before = CertificateWish {
            ca: Some("pier".into()),
            keep_key: true,
            from: Host::parse("quay.example").ok(),
            ..CertificateWish::default()
        };
        assert_eq!(over(&wish(), &before).unwrap(), CertificateWish { from: None, ..before.clone() });
        let changed =
            WishChange { ca: Some("default".into()), key: Some(KeyKind::P384), keep_key: Some(false), ..wish() };
        let after = over(&changed, &before).unwrap();
        assert_eq!((after.ca, after.key, after.keep_key), (None, KeyKind::P384, false));
        let named = WishChange { ca: Some("pier".into()), ..wish() };
        assert_eq!(over(&named, &CertificateWish::default()).unwrap().ca.as_deref(), Some("pier"));
        let unknown = WishChange { ca: Some("reef".into()), ..wish() };
        let known = vec!["pier".to_string()];
        let refused = over(&unknown, &before);
        assert_eq!(refused, Err(CertificateRefusal::UnknownCa { ca: "reef".into(), known }));
    }

    #[test]
    fn who_else_gets_a_certificate_that_demands_a_statement_is_told_once() {
        use crate::harbor::Service;
        let site = |stapled| Site {
            account: crate::account::AccountName::parse("boatyard").unwrap(),
            hostnames: vec![Host::parse("gullrock.example").unwrap()],
            document_root: "/home/boatyard".into(),
            kind: crate::site::SiteKind::AddonDomain,
            https: crate::site::HttpsStates::default(),
            certificate: None,
            rules: crate::site::SiteRules {
                certificate: Box::new(CertificateWish { stapled, ..CertificateWish::default() }),
                ..crate::site::SiteRules::default()
            },
        };
        let mut settings = settings();
        for (name, hostname) in [("mail", "gullrock.example"), ("chat", "quay.example")] {
            let hostname = crate::name::Hostname::parse(hostname).unwrap();
            let service = Service { hostname, folder: "/etc/mail".into(), owner: None, mode: 0o600, reload: vec![] };
            settings.services.insert(name.into(), service);
        }
        let told = |before: bool, asked: Option<bool>| {
            let plan = keep_wish(&site(before), &WishChange { stapled: asked, ..wish() }, &settings).unwrap();
            (plan.remarks.len(), plan.set.changes.len())
        };
        assert_eq!(told(false, Some(true)), (1, 1), "the mail server");
        assert_eq!(told(true, Some(true)), (0, 0));
        assert_eq!(told(true, None), (0, 0), "it stays");
        assert_eq!(told(true, Some(false)), (0, 1));
    }

    #[test]
    fn a_profile_is_kept_until_another_or_none_is_named_or_another_ca() {
        let short = || Some("short".to_string());
        let before = CertificateWish { profile: short(), ..CertificateWish::default() };
        let after = |change: WishChange| over(&change, &before).unwrap().profile;
        assert_eq!(after(wish()), short());
        assert_eq!(after(WishChange { profile: Some("none".into()), ..wish() }), None);
        assert_eq!(after(WishChange { profile: Some("long".into()), ..wish() }).as_deref(), Some("long"));
        assert_eq!(after(WishChange { ca: Some("pier".into()), ..wish() }), None);
        assert_eq!(after(WishChange { ca: Some("pier".into()), profile: short(), ..wish() }), short());
        let offered: BTreeMap<String, String> = [("long".to_string(), "for months".to_string())].into();
        let refused = |profile: Option<&str>| {
            WishChange { profile: profile.map(String::from), ..wish() }.refuse_unoffered(&offered)
        };
        assert_eq!([refused(None), refused(Some("none")), refused(Some("long"))], [Ok(()), Ok(()), Ok(())]);
        let unoffered = CertificateRefusal::Profile { profile: "short".into(), offered: vec!["long".into()] };
        assert_eq!(refused(Some("short")), Err(unoffered));
    }

    #[test]
    fn a_wildcard_stands_below_the_bare_name_and_is_not_proven_over_http() {
        let with = WishChange { wildcard: Some(true), ..wish() };
        let once = over(&with, &CertificateWish::default()).unwrap();
        assert_eq!(once.wildcards, [Host::parse("gullrock.example").unwrap()]);
        assert_eq!(over(&with, &once).unwrap(), once);
        let http = WishChange { proof: Some(ProofWish::Http01), ..wish() };
        assert!(matches!(over(&http, &once), Err(CertificateRefusal::WildcardProof { .. })));
        let without = WishChange { wildcard: Some(false), ..http };
        assert!(over(&without, &once).unwrap().wildcards.is_empty());
        let tls = WishChange { proof: Some(ProofWish::TlsAlpn01), ..wish() };
        assert_eq!(over(&tls, &once), Err(CertificateRefusal::NoResponder));
        let mut fronted = settings();
        fronted.web.tls_alpn_listen = Some("127.0.0.1:10443".parse().unwrap());
        assert!(tls.over(&once, &fronted).is_ok());
    }
}

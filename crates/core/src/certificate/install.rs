//! Installing a certificate: two steps, since http is sent to https only after a handshake has proven it.
//!
//! Key and chain go into a new folder each time and the site file names the folder, so that at no moment a key lies
//! beside a certificate that is not its own.

use jiff::Timestamp;

use crate::certificate::securing::Shown;
use crate::certificate::{Certificate, CertificateDetails, CertificateFiles, CertificateSource, CertificateState};
use crate::change::{ExistingFile, FileWrite, InventoryChange, Plan, Purpose};
use crate::harbor::{Layout, Settings};
use crate::name::Host;
use crate::site::{HttpsPolicy, HttpsState, Site, change_site};

/// A certificate to be installed.
pub struct Install<'a> {
    pub chain_pem: &'a str,
    pub key_pem: &'a str,
    pub names: Vec<Host>,
    pub not_before: Timestamp,
    pub not_after: Timestamp,
    pub now: Timestamp,
    pub source: CertificateSource,
    pub details: CertificateDetails,
    /// The statement of its CA that it demands to be shown with.
    pub staple: Option<&'a [u8]>,
}

/// Adds to the plan what puts chain and key in place and serves https beside http. Gives the site as it will be.
pub fn install(
    plan: &mut Plan,
    site: &Site,
    install: &Install<'_>,
    site_file: ExistingFile,
    settings: &Settings,
    layout: &Layout,
) -> Site {
    let of_site = layout.certificates().join(site.main().as_str());
    let files = CertificateFiles::new_below(of_site, install.now, install.staple.is_some());
    let mut after = site.clone();
    after.certificate = Some(files.clone());
    let certificate = Certificate {
        site: site.main().clone(),
        names: install.names.clone(),
        files: files.clone(),
        not_before: install.not_before,
        not_after: install.not_after,
        state: CertificateState::Installed,
        source: install.source,
        details: install.details.clone(),
    };
    for host in &site.hostnames {
        // Nobody is sent to a certificate that is not for the name.
        let covered = certificate.covers(host);
        let state = if covered { site.https_of(host).max(HttpsState::Offered) } else { HttpsState::None };
        after.https.set(host, state);
    }
    plan.set.file(FileWrite::new(files.key(), None, install.key_pem, 0o600, Purpose::Key));
    plan.set.file(FileWrite::new(files.chain(), None, install.chain_pem, 0o600, Purpose::Chain));
    if let Some(staple) = install.staple {
        plan.set.file(FileWrite::new(files.staple(), None, staple, 0o600, Purpose::Staple));
    }
    change_site(plan, site, &after, site_file, settings, layout);
    plan.set.inventory(InventoryChange::RecordCertificate(certificate));
    after
}

/// After handshakes: adds to the plan what sends http to https for the hosts that they have shown it for, and records the
/// certificate as served, if they have for all. Gives the site as it will be.
pub fn force_https(
    plan: &mut Plan,
    site: &Site,
    (certificate, shown): (&Certificate, &Shown),
    site_file: ExistingFile,
    settings: &Settings,
    layout: &Layout,
) -> Site {
    let mut after = site.clone();
    // Nobody is sent to a warning page on purpose.
    let is_trusted = certificate.source != CertificateSource::SelfSigned;
    if is_trusted && site.rules.https_policy == HttpsPolicy::Forced {
        for host in site.hostnames.iter().filter(|host| shown.hosts.contains(host)) {
            after.https.set(host, HttpsState::Forced);
        }
    }
    if after != *site {
        change_site(plan, site, &after, site_file, settings, layout);
    }
    if shown.others.is_empty() {
        let served = Certificate { state: CertificateState::Served, ..certificate.clone() };
        plan.set.inventory(InventoryChange::RecordCertificate(served));
    }
    after
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::AccountName;
    use crate::change::Change;
    use crate::harbor::WebServer;
    use crate::site::{HttpsStates, SiteKind, SiteRules};

    fn site() -> Site {
        Site {
            account: AccountName::parse("boatyard").unwrap(),
            hostnames: ["gullrock.example", "www.gullrock.example"].map(|n| Host::parse(n).unwrap()).to_vec(),
            document_root: "/home/boatyard/www/gullrock.example".into(),
            kind: SiteKind::AddonDomain,
            https: HttpsStates::default(),
            certificate: None,
            rules: SiteRules::default(),
        }
    }

    fn installed(names: usize) -> (Plan, Site, Certificate, Settings, Layout) {
        let mut settings = Settings::default();
        settings.web.server = WebServer::Nginx;
        let layout = Layout::new("/harbor");
        let now: Timestamp = "2026-11-23T07:00:00.5Z".parse().unwrap();
        let names = site().hostnames[..names].to_vec();
        let install_it = Install {
            chain_pem: "CHAIN",
            key_pem: "KEY",
            names,
            not_before: now,
            not_after: now,
            now,
            source: CertificateSource::Ca,
            details: CertificateDetails::default(),
            staple: None,
        };
        let mut plan = Plan::new("certificate issue gullrock.example");
        let after = install(&mut plan, &site(), &install_it, None, &settings, &layout);
        let certificate = plan
            .set
            .changes
            .iter()
            .find_map(|change| match change {
                Change::Inventory { to: InventoryChange::RecordCertificate(c) } => Some(c.clone()),
                _ => None,
            })
            .unwrap();
        (plan, after, certificate, settings, layout)
    }

    fn shown(site: &Site, certificate: &Certificate) -> Shown {
        let hosts = site.hostnames.iter().filter(|host| certificate.covers(host)).cloned().collect();
        Shown { hosts, others: vec![] }
    }

    #[test]
    fn key_and_chain_are_written_before_the_file_that_names_them() {
        let (plan, after, certificate, ..) = installed(2);
        let lines: Vec<String> = plan.set.changes.iter().map(Change::line).collect();
        let folder = "/harbor/certificates/gullrock.example/20261123-070000-500";
        assert_eq!(lines[0], format!("write {folder}/key.pem (600)"));
        assert_eq!(lines[1], format!("write {folder}/chain.pem (600)"));
        assert_eq!(lines[2], "write /harbor/servers/nginx/gullrock.example.conf (644)");
        assert_eq!(after.https, HttpsStates::all(&after.hostnames, HttpsState::Offered));
        assert_eq!(certificate.state, CertificateState::Installed);
    }

    #[test]
    fn http_is_sent_to_https_for_each_name_that_is_covered_and_for_no_other() {
        let (_, after, certificate, settings, layout) = installed(2);
        let mut plan = Plan::new("settle");
        let forced =
            force_https(&mut plan, &after, (&certificate, &shown(&after, &certificate)), None, &settings, &layout);
        assert_eq!(forced.https, HttpsStates::all(&forced.hostnames, HttpsState::Forced));
        assert!(plan.set.needs().web_reload);
        let (_, after, certificate, settings, layout) = installed(1);
        let mut plan = Plan::new("settle");
        let left =
            force_https(&mut plan, &after, (&certificate, &shown(&after, &certificate)), None, &settings, &layout);
        assert_eq!(left.https, HttpsStates::all(&left.hostnames[..1], HttpsState::Forced));
        assert!(plan.set.needs().web_reload);
    }
}

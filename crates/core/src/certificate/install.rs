//! Installing a certificate: two steps, since http is sent to https only after a handshake has proven it.
//!
//! Key and chain go into a new folder each time and the site file names the folder, so that at no moment a key lies
//! beside a certificate that is not its own.

use jiff::Timestamp;

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
    let stamp = install.now.strftime("%Y%m%d-%H%M%S-%3f").to_string();
    let files = CertificateFiles { folder: layout.certificates().join(site.main().as_str()).join(stamp) };
    let mut after = site.clone();
    after.certificate = Some(files.clone());
    if after.https == HttpsState::None {
        after.https = HttpsState::Offered;
    }
    plan.set.file(FileWrite::new(files.key(), None, install.key_pem, 0o600, Purpose::Key));
    plan.set.file(FileWrite::new(files.chain(), None, install.chain_pem, 0o600, Purpose::Chain));
    change_site(plan, site, &after, site_file, settings, layout);
    plan.set.inventory(InventoryChange::RecordCertificate(Certificate {
        site: site.main().clone(),
        names: install.names.clone(),
        files,
        not_before: install.not_before,
        not_after: install.not_after,
        state: CertificateState::Installed,
        source: install.source,
        details: install.details.clone(),
    }));
    after
}

/// After the handshake: adds to the plan what sends http to https, and records the certificate as served. Gives the site
/// as it will be.
pub fn force_https(
    plan: &mut Plan,
    site: &Site,
    certificate: &Certificate,
    site_file: ExistingFile,
    settings: &Settings,
    layout: &Layout,
) -> Site {
    let mut after = site.clone();
    // A name without certificate would be sent to a warning page: then http stays open for all names of the site.
    let covered = site.hostnames.iter().all(|hostname| certificate.covers(hostname));
    // Nobody is sent to a warning page on purpose.
    let covered = covered && certificate.source != CertificateSource::SelfSigned;
    if covered && site.rules.https_policy == HttpsPolicy::Forced {
        after.https = HttpsState::Forced;
    }
    if after != *site {
        change_site(plan, site, &after, site_file, settings, layout);
    }
    let served = Certificate { state: CertificateState::Served, ..certificate.clone() };
    plan.set.inventory(InventoryChange::RecordCertificate(served));
    after
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::AccountName;
    use crate::change::Change;
    use crate::harbor::WebServer;
    use crate::site::{SiteKind, SiteRules};

    fn site() -> Site {
        Site {
            account: AccountName::parse("boatyard").unwrap(),
            hostnames: ["gullrock.example", "www.gullrock.example"].map(|n| Host::parse(n).unwrap()).to_vec(),
            document_root: "/home/boatyard/www/gullrock.example".into(),
            kind: SiteKind::AddonDomain,
            https: HttpsState::None,
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

    #[test]
    fn key_and_chain_are_written_before_the_file_that_names_them() {
        let (plan, after, certificate, ..) = installed(2);
        let lines: Vec<String> = plan.set.changes.iter().map(Change::line).collect();
        let folder = "/harbor/certificates/gullrock.example/20261123-070000-500";
        assert_eq!(lines[0], format!("write {folder}/key.pem (600)"));
        assert_eq!(lines[1], format!("write {folder}/chain.pem (600)"));
        assert_eq!(lines[2], "write /harbor/servers/nginx/gullrock.example.conf (644)");
        assert_eq!((after.https, certificate.state), (HttpsState::Offered, CertificateState::Installed));
    }

    #[test]
    fn http_is_sent_to_https_only_when_every_name_is_covered() {
        let (_, after, certificate, settings, layout) = installed(2);
        let mut plan = Plan::new("settle");
        let forced = force_https(&mut plan, &after, &certificate, None, &settings, &layout);
        assert_eq!(forced.https, HttpsState::Forced);
        assert!(plan.set.needs().web_reload);
        let (_, after, certificate, settings, layout) = installed(1);
        let mut plan = Plan::new("settle");
        let left = force_https(&mut plan, &after, &certificate, None, &settings, &layout);
        assert_eq!(left.https, HttpsState::Offered);
        assert!(!plan.set.needs().web_reload);
    }
}

//! The sites with their certificates, as `certificate list` and the metrics tell of them.

use std::collections::HashMap;

use brightharbor_core::account::AccountName;
use brightharbor_core::certificate::due::is_awaited;
use brightharbor_core::certificate::{Certificate, CertificateState};
use brightharbor_core::harbor::Service;
use brightharbor_core::name::Host;
use brightharbor_core::site::{Site, SiteKind};
use brightharbor_io::harbor::Harbor;
use brightharbor_io::install::service_has;
use brightharbor_io::load;
use jiff::Timestamp;

use crate::error::Error;

pub(super) struct Row {
    pub site: Site,
    /// Of the account, for whoever has to be written to.
    pub email: Option<String>,
    pub certificate: Option<Certificate>,
    pub waits: bool,
    /// The web server, if a handshake has shown it there, and the services that have it.
    pub served_at: Vec<String>,
}

impl Row {
    /// All sites, or those of an account; but no site by address that has no certificate.
    pub fn read_all(harbor: &Harbor, account: Option<&AccountName>) -> Result<Vec<Self>, Error> {
        let emails: HashMap<AccountName, String> =
            harbor.store.accounts()?.into_iter().map(|account| (account.name, account.email)).collect();
        let mut rows = Vec::new();
        for site in harbor.store.sites(account)? {
            let certificate = harbor.store.certificate_of(site.main())?;
            // Few CAs issue for addresses: one without is nothing that is missing.
            if site.kind == SiteKind::ByAddress && certificate.is_none() {
                continue;
            }
            let waits = is_awaited(&site, certificate.as_ref(), &harbor.settings);
            let served_at = certificate.as_ref().map(|one| served_at(harbor, &site, one)).unwrap_or_default();
            let email = emails.get(&site.account).cloned();
            rows.push(Self { site, email, certificate, waits, served_at });
        }
        Ok(rows)
    }

    /// The hostnames of the site that its certificate does not name.
    pub fn uncovered(&self) -> Vec<&Host> {
        let covered = |hostname: &Host| self.certificate.as_ref().is_some_and(|one| one.covers(hostname));
        self.site.hostnames.iter().filter(|hostname| !covered(hostname)).collect()
    }
}

fn served_at(harbor: &Harbor, site: &Site, certificate: &Certificate) -> Vec<String> {
    let settings = &harbor.settings;
    let web = (certificate.state != CertificateState::Installed).then(|| settings.web.server.word().to_string());
    let services = settings.services.iter().filter(|(_, service)| site.has(&service.hostname));
    let has_it = |(name, service): (&String, &Service)| {
        let chain = load::installed_chain(&certificate.files)?;
        service_has(service, &chain).then(|| name.clone())
    };
    web.into_iter().chain(services.filter_map(has_it)).collect()
}

/// Whole days; negative once it has expired.
pub(super) fn days_left(certificate: &Certificate, now: Timestamp) -> i64 {
    certificate.not_after.duration_since(now).as_secs().div_euclid(86_400)
}

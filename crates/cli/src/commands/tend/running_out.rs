//! Certificates that somebody has to look after, as a run of `tend` tells of them: they are over, or will be before anybody
//! here gets another. Which ones those are is decided in core (`Certificate::runs_out_soon`).

use brightharbor_core::account::AccountName;
use brightharbor_core::certificate::{Certificate, CertificateSource, CertificateState};
use jiff::Timestamp;
use serde_json::{Value, json};

use crate::show::human;

/// A certificate that is over, or will be before anybody here gets another.
pub(super) struct RunningOut {
    pub(super) account: AccountName,
    pub(super) email: Option<String>,
    pub(super) certificate: Certificate,
    pub(super) is_over: bool,
}

impl RunningOut {
    pub(super) fn line(&self, now: Timestamp) -> String {
        let Certificate { site, not_after, source, .. } = &self.certificate;
        let (until, source) = (human::when(*not_after, now), source.words());
        let (account, email) = (&self.account, self.email.as_deref().unwrap_or("no address"));
        if self.certificate.state == CertificateState::Revoked {
            return format!("{site}: its {source} certificate is revoked (account {account}, {email})");
        }
        match self.is_over {
            true => format!("{site}: its {source} certificate expired at {until} (account {account}, {email})"),
            false => format!("{site}: its {source} certificate expires at {until} (account {account}, {email})"),
        }
    }

    /// What somebody can do about it.
    pub(super) fn next(&self) -> String {
        let site = &self.certificate.site;
        match self.certificate.source {
            CertificateSource::Imported => format!("buy another: brightharbor certificate request {site}, then import"),
            CertificateSource::SelfSigned => format!("brightharbor certificate issue {site}"),
            CertificateSource::Ca | CertificateSource::Shared => format!("brightharbor survey {site}"),
        }
    }

    pub(super) fn document(&self) -> Value {
        json!({
            "site": self.certificate.site,
            "account": self.account,
            "email": self.email,
            "source": self.certificate.source,
            "not_after": self.certificate.not_after.to_string(),
            "expired": self.is_over,
            "revoked": self.certificate.state == CertificateState::Revoked,
        })
    }
}

//! One site on its way to a served certificate: how far it has come, and what came of it in the end.

use brightharbor_core::acme::Identifier;
use brightharbor_core::certificate::urgent_from;
use brightharbor_core::certificate::{Certificate, CertificateWish};
use brightharbor_core::delegation::Cuts;
use brightharbor_core::name::Hostname;
use brightharbor_core::site::Site;
use jiff::Timestamp;

use super::installing::Arrived;
use crate::error::Error;

/// What came of trying to secure a site.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Secured {
    pub site: Hostname,
    pub outcome: SecureOutcome,
    /// What the certificate does not cover, with the reason.
    pub left_out: Vec<(Identifier, String)>,
}

impl Secured {
    /// Unless a handshake has shown something else than what was installed.
    pub fn is_shown(&self) -> bool {
        !matches!(self.outcome, SecureOutcome::NotShown { .. })
    }
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SecureOutcome {
    /// Proven by a handshake.
    Served { certificate: Certificate, new: bool },
    /// No name leads here yet.
    NotYet,
    /// The CA has refused, or is still at work.
    Refused { reason: String, advice: Option<String>, kept: Option<Kept> },
    /// Installed, but the handshake does not show it.
    NotShown { certificate: Certificate, reason: String },
}

/// The certificate that goes on being served while a new one cannot be had.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Kept {
    pub until: Timestamp,
    /// From when on somebody should look into it.
    pub urgent_from: Timestamp,
}

impl Kept {
    pub(super) fn of(certificate: &Certificate) -> Self {
        let urgent_from = urgent_from(certificate.not_before, certificate.not_after);
        Self { until: certificate.not_after, urgent_from }
    }
}

/// One site on its way.
pub(super) struct Course<'a> {
    pub site: &'a Site,
    pub left_out: Vec<(Identifier, String)>,
    /// How many of them were left out before the CA was asked.
    pub left_at_look: usize,
    /// Until when resolvers may still give old answers.
    pub stale: Option<Timestamp>,
    pub at: Stage,
}

pub(super) enum Stage {
    ToOrder {
        names: Vec<Hostname>,
        present: Option<Certificate>,
        /// That of the site, as far as it can be met now.
        wish: Box<CertificateWish>,
        /// The servers of zones that were seen.
        zones: Cuts,
    },
    Arrived(Box<Arrived>),
    /// In place; whether it came just now.
    InPlace {
        certificate: Box<Certificate>,
        new: bool,
    },
    /// Shown by a handshake.
    Proven {
        certificate: Box<Certificate>,
        new: bool,
    },
    /// http is sent to https, where that is wished.
    Settled {
        certificate: Box<Certificate>,
        new: bool,
    },
    Ended(Result<SecureOutcome, Error>),
}

impl Course<'_> {
    /// Whether a certificate is served after all that.
    pub fn is_served(&self) -> bool {
        matches!(self.at, Stage::Proven { .. } | Stage::Settled { .. })
    }

    /// What came of it.
    pub fn ended(self) -> Result<Secured, Error> {
        let outcome = match self.at {
            Stage::Ended(result) => result?,
            Stage::Settled { certificate, new } => SecureOutcome::Served { certificate: *certificate, new },
            _ => return Err(Error::refused("inventory", "the certificate was not recorded")),
        };
        Ok(Secured { site: self.site.main().clone(), outcome, left_out: self.left_out })
    }
}

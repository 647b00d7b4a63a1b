//! What came of securing a site: served, not yet, refused, or not shown by a handshake.

use jiff::Timestamp;

use crate::acme::Identifier;
use crate::certificate::{Certificate, urgent_from};
use crate::name::Host;

/// What came of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SecureOutcome {
    /// Verified by a handshake.
    Served { certificate: Box<Certificate>, new: bool },
    /// No name resolves to this host yet.
    NotYet,
    /// The CA has refused, or is still at work.
    Refused { why: NotIssued, kept: Option<Kept> },
    /// Installed, but the handshake does not show it.
    NotShown { certificate: Box<Certificate>, reason: String },
}

/// Why nothing was issued: a code of its own, what was said, and until when it is pointless to try.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NotIssued {
    pub code: &'static str,
    pub reason: String,
    pub not_before: Option<Timestamp>,
    /// Whether somebody else is at it, who remembers what comes of it.
    pub busy: bool,
    /// The names that were refused, where it is about some of them alone.
    pub names: Vec<(Identifier, String)>,
}

/// The certificate that goes on being served while a new one cannot be had.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Kept {
    pub until: Timestamp,
    /// From when on somebody should look into it.
    pub urgent_from: Timestamp,
}

impl Kept {
    pub fn of(certificate: &Certificate) -> Self {
        let urgent_from = urgent_from(certificate.not_before, certificate.not_after);
        Self { until: certificate.not_after, urgent_from }
    }
}

/// What came of trying to secure a site.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Secured {
    pub site: Host,
    pub outcome: SecureOutcome,
    /// What the certificate does not cover, with the reason.
    pub left_out: Vec<(Identifier, String)>,
}

impl Secured {
    /// Unless a handshake has shown something else than what was installed.
    pub fn is_shown(&self) -> bool {
        !matches!(self.outcome, SecureOutcome::NotShown { .. })
    }

    pub fn is_served(&self) -> bool {
        matches!(self.outcome, SecureOutcome::Served { .. })
    }
}

/// What handshakes have shown for each host that the certificate covers.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Shown {
    pub hosts: Vec<Host>,
    /// The others, with what was seen instead.
    pub others: Vec<(Host, String)>,
}

impl Shown {
    pub(super) fn reason(&self) -> String {
        match self.others.first() {
            Some((host, reason)) => format!("{host}: {reason}"),
            None => "no host of the site is covered by it".into(),
        }
    }
}

impl NotIssued {
    /// Some names cannot be validated, and the rest is not worth an order.
    pub fn names(names: Vec<(Identifier, String)>) -> Self {
        let listed = names.iter().map(|(name, why)| format!("{name}: {why}")).collect::<Vec<_>>().join("; ");
        let reason = format!("domain control could not be validated for {listed}");
        Self { code: "not-validated", reason, not_before: None, busy: false, names }
    }
}

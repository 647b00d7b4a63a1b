//! Certificates that a later one has taken the place of: how long their files are kept, and which of them go.
//!
//! What was imported is never taken away here: its key may be nowhere else.

use jiff::{SignedDuration, Timestamp};

use super::CertificateRemark;
use crate::certificate::{CertificateFiles, CertificateSource};
use crate::change::{InventoryChange, Plan};
use crate::name::Host;

/// After a certificate has ended: for whoever has to explain an old connection, or goes back to an old site file.
pub const KEPT_AFTER_END: SignedDuration = SignedDuration::from_hours(30 * 24);

/// A certificate that was installed once, and is not any more.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FormerCertificate {
    pub site: Host,
    pub files: CertificateFiles,
    /// Its CA has revoked it: it never goes back in place.
    pub revoked: bool,
}

/// Whether a certificate of this source is ever taken away again.
pub fn is_replaceable(source: CertificateSource) -> bool {
    match source {
        CertificateSource::Ca | CertificateSource::Shared | CertificateSource::SelfSigned => true,
        CertificateSource::Imported => false,
    }
}

/// Those that ended before this moment are over.
pub fn over_before(now: Timestamp) -> Timestamp {
    now.checked_sub(KEPT_AFTER_END).unwrap_or(Timestamp::MIN)
}

/// Decides that certificates whose files are gone are forgotten.
pub fn forget(gone: &[FormerCertificate]) -> Plan {
    let mut plan = Plan::new("tend: clear away certificates that are over");
    for former in gone {
        plan.set.inventory(InventoryChange::ForgetCertificate { folder: former.files.folder.clone() });
    }
    if !gone.is_empty() {
        let sites = gone.iter().map(|former| former.site.clone()).collect();
        plan.remark(CertificateRemark::FormerRemoved { sites, days: KEPT_AFTER_END.as_hours() / 24 });
    }
    plan
}

#[cfg(test)]
mod tests {
    use super::*;

    fn former(name: &str) -> FormerCertificate {
        let files = CertificateFiles { folder: format!("/harbor/certificates/{name}/1").into() };
        FormerCertificate { site: Host::parse(name).unwrap(), files, revoked: false }
    }

    #[test]
    fn a_certificate_is_over_a_month_after_its_end() {
        let now: Timestamp = "2026-11-23T07:00:00Z".parse().unwrap();
        assert_eq!(over_before(now).to_string(), "2026-10-24T07:00:00Z");
        assert!(!is_replaceable(CertificateSource::Imported) && is_replaceable(CertificateSource::Ca));
    }

    #[test]
    fn what_went_is_forgotten_and_told_once() {
        assert_eq!(forget(&[]), Plan::new("tend: clear away certificates that are over"));
        let plan = forget(&[former("gullrock.example"), former("lanternchoir.example")]);
        let folder = "/harbor/certificates/gullrock.example/1".into();
        assert_eq!(plan.set.inventory_changes().next(), Some(&InventoryChange::ForgetCertificate { folder }));
        let sites = ["gullrock.example", "lanternchoir.example"].map(|name| Host::parse(name).unwrap()).to_vec();
        assert_eq!(plan.remarks, [CertificateRemark::FormerRemoved { sites, days: 30 }.into()]);
    }
}

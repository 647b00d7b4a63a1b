//! Certificates that a later one has taken the place of: how long their files are kept, and which of them go.
//!
//! What was imported is never taken away here: its key may be nowhere else.

use jiff::{SignedDuration, Timestamp};

use crate::certificate::{CertificateFiles, CertificateSource};
use crate::change::{ChangeSet, InventoryChange};
use crate::name::Hostname;

/// After a certificate has ended: for whoever has to explain an old connection, or goes back to an old site file.
pub const KEPT_AFTER_END: SignedDuration = SignedDuration::from_hours(30 * 24);

/// A certificate that was installed once, and is not any more.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FormerCertificate {
    pub site: Hostname,
    pub files: CertificateFiles,
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

/// Forgets certificates whose files are gone, and says so.
pub fn forget(gone: &[FormerCertificate]) -> (ChangeSet, Vec<String>) {
    let mut set = ChangeSet::new("tend: clear away certificates that are over");
    for former in gone {
        set.inventory(InventoryChange::ForgetCertificate { folder: former.files.folder.clone() });
    }
    let days = KEPT_AFTER_END.as_hours() / 24;
    let said = match gone {
        [] => vec![],
        [one] => vec![format!(
            "a former certificate of {}, over for more than {days} days, was removed with its key",
            one.site
        )],
        many => vec![format!(
            "{} former certificates, over for more than {days} days, were removed with their keys",
            many.len()
        )],
    };
    (set, said)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn former(name: &str) -> FormerCertificate {
        let files = CertificateFiles { folder: format!("/harbor/certificates/{name}/1").into() };
        FormerCertificate { site: Hostname::parse(name).unwrap(), files }
    }

    #[test]
    fn a_certificate_is_over_a_month_after_its_end() {
        let now: Timestamp = "2026-11-23T07:00:00Z".parse().unwrap();
        assert_eq!(over_before(now).to_string(), "2026-10-24T07:00:00Z");
        assert!(!is_replaceable(CertificateSource::Imported) && is_replaceable(CertificateSource::Ca));
    }

    #[test]
    fn what_went_is_forgotten_and_told_in_one_line() {
        let (set, said) = forget(&[]);
        assert!(set.is_empty() && said.is_empty());
        let (set, said) = forget(&[former("gullrock.example")]);
        let folder = "/harbor/certificates/gullrock.example/1".into();
        assert_eq!(set.inventory_changes().collect::<Vec<_>>(), [&InventoryChange::ForgetCertificate { folder }]);
        assert_eq!(
            said,
            ["a former certificate of gullrock.example, over for more than 30 days, was removed with its key"]
        );
        let (set, said) = forget(&[former("gullrock.example"), former("lanternchoir.example")]);
        assert_eq!((set.changes.len(), said.len()), (2, 1));
        assert!(said[0].starts_with("2 former certificates"));
    }
}

//! A certificate that is to be revoked: remembered from the moment that it was asked for until the CA has been told, so
//! that it is never forgotten, nor its successor revoked in its place, when something goes wrong in between.
//!
//! Getting the successor, and telling the CA, is the command's; what is told stands in `change::CaErrand`.

use jiff::Timestamp;

use crate::acme::RevocationReason;
use crate::certificate::{Certificate, CertificateSource, CertificateState, Revocation};
use crate::change::{CaErrand, Change, ChangeSet, InventoryChange, ToldToCa};

/// Forgets what has run out by itself meanwhile, and says so.
pub fn forget_over(all: &[Revocation], now: Timestamp) -> (ChangeSet, Vec<String>) {
    let (mut set, mut said) = (ChangeSet::new("tend: forget revocations of what has run out"), Vec::new());
    for over in all.iter().filter(|one| one.not_after <= now) {
        set.inventory(InventoryChange::ForgetRevocation { folder: over.files.folder().to_path_buf() });
        said.push(format!("the certificate of {} that was to be revoked has run out by itself", over.site));
    }
    (set, said)
}

impl Revocation {
    /// Of the certificate that a site has, if a CA has issued it to this harbor.
    pub fn of(certificate: &Certificate, reason: RevocationReason) -> Option<Self> {
        (certificate.source == CertificateSource::Ca).then(|| Self {
            site: certificate.site.clone(),
            files: certificate.files.clone(),
            ca: certificate.details.ca.clone().unwrap_or_else(|| "default".into()),
            reason,
            not_after: certificate.not_after,
        })
    }

    /// Whether the site still has the very certificate.
    pub fn is_of(&self, present: Option<&Certificate>) -> bool {
        present.is_some_and(|present| present.files == self.files)
    }

    pub fn title(&self) -> String {
        format!("certificate revoke {}", self.site)
    }

    /// Tells the CA. A certificate that the site still has is known as revoked from then on.
    pub fn tell(&self, present: Option<&Certificate>, remembered: bool) -> ChangeSet {
        let mut set = ChangeSet::new(self.title());
        let (site, chain) = (self.site.clone(), self.files.chain());
        let told = ToldToCa::Revocation { site, chain, reason: self.reason };
        set.changes.push(Change::TellCa(CaErrand { ca: self.ca.clone(), told }));
        if let Some(present) = present.filter(|_| self.is_of(present)) {
            let revoked = Certificate { state: CertificateState::Revoked, ..present.clone() };
            set.inventory(InventoryChange::RecordCertificate(revoked));
        }
        if remembered {
            set.inventory(InventoryChange::ForgetRevocation { folder: self.files.folder().to_path_buf() });
        }
        set
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::certificate::{CertificateDetails, CertificateFiles};
    use crate::name::Hostname;

    fn certificate(folder: &str, source: CertificateSource) -> Certificate {
        Certificate {
            site: Hostname::parse("gullrock.example").unwrap(),
            names: vec![],
            files: CertificateFiles { folder: folder.into() },
            not_before: Timestamp::UNIX_EPOCH,
            not_after: Timestamp::UNIX_EPOCH,
            state: CertificateState::Served,
            source,
            details: CertificateDetails::default(),
        }
    }

    #[test]
    fn only_what_a_ca_has_issued_here_can_be_revoked_here() {
        let of = |source| Revocation::of(&certificate("/h/1", source), RevocationReason::Superseded);
        assert_eq!(of(CertificateSource::Ca).unwrap().ca, "default");
        assert_eq!(of(CertificateSource::Imported), None);
        assert_eq!(of(CertificateSource::Shared), None);
    }

    #[test]
    fn what_has_run_out_needs_no_revocation() {
        let of = |folder: &str| {
            Revocation::of(&certificate(folder, CertificateSource::Ca), RevocationReason::Superseded).unwrap()
        };
        let later = Revocation { not_after: "2027-01-01T00:00:00Z".parse().unwrap(), ..of("/h/2") };
        let (set, said) = forget_over(&[of("/h/1"), later], "2026-11-27T00:00:00Z".parse().unwrap());
        let folder = "/h/1".into();
        assert_eq!(set.inventory_changes().collect::<Vec<_>>(), [&InventoryChange::ForgetRevocation { folder }]);
        assert_eq!(said, ["the certificate of gullrock.example that was to be revoked has run out by itself"]);
    }

    #[test]
    fn the_very_certificate_is_meant_whatever_the_site_has_by_then() {
        let old = certificate("/h/1", CertificateSource::Ca);
        let revocation = Revocation::of(&old, RevocationReason::KeyCompromise).unwrap();
        let lines = |present: Option<&Certificate>| {
            revocation.tell(present, true).changes.iter().map(Change::line).collect::<Vec<_>>()
        };
        let told = "have the CA `default` revoke the certificate of gullrock.example (key-compromise)";
        let forget = "inventory: forget that the certificate in /h/1 is to be revoked";
        let newer = certificate("/h/2", CertificateSource::Ca);
        assert_eq!(lines(Some(&newer)), [told, forget]);
        assert_eq!(lines(None), [told, forget]);
        assert_eq!(lines(Some(&old)), [told, "inventory: record the certificate of gullrock.example", forget]);
        assert_eq!(revocation.tell(None, false).changes.len(), 1);
        assert!(revocation.is_of(Some(&old)) && !revocation.is_of(Some(&newer)) && !revocation.is_of(None));
    }
}

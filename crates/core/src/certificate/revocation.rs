//! A certificate that is to be revoked: remembered from the moment that it was asked for until the CA has been told, so
//! that it is never forgotten, nor its successor revoked in its place, when something goes wrong in between.
//!
//! Getting the successor, and telling the CA, is the command's; what is told stands in `change::CaErrand`.

use jiff::Timestamp;

use super::{CertificateRefusal, CertificateRemark};
use crate::acme::RevocationReason;
use crate::certificate::{Certificate, CertificateSource, CertificateState, Revocation};
use crate::change::{CaErrand, Change, InventoryChange, Plan, ToldToCa};
use crate::name::Host;
use crate::site::Site;

/// Decides that what has expired meanwhile is forgotten.
pub fn forget_over(all: &[Revocation], now: Timestamp) -> Plan {
    let mut plan = Plan::new("tend: forget revocations of what has expired");
    for over in all.iter().filter(|one| one.not_after <= now) {
        let folder = over.files.folder().to_path_buf();
        plan.set.inventory(InventoryChange::ForgetRevocation { folder, told: false });
        plan.remark(CertificateRemark::RevocationOver { site: over.site.clone() });
    }
    plan
}

/// Notes certificates whose CA says that they are revoked, with the time since when: another is obtained as for one that was
/// revoked from here.
pub fn found_revoked(found: &[(Certificate, Timestamp)]) -> Plan {
    let mut plan = Plan::new("tend: certificates that their CA has revoked");
    for (certificate, since) in found.iter().filter(|(one, _)| one.state != CertificateState::Revoked) {
        let revoked = Certificate { state: CertificateState::Revoked, ..certificate.clone() };
        plan.set.inventory(InventoryChange::RecordCertificate(revoked));
        plan.remark(CertificateRemark::FoundRevoked { site: certificate.site.clone(), since: *since });
    }
    plan
}

/// What is to be revoked of a site: what was begun is continued, since what the site has by now may be its successor.
pub fn wanted(
    begun: Option<&Revocation>,
    site: Option<&Site>,
    present: Option<&Certificate>,
    name: &Host,
    reason: RevocationReason,
) -> Result<Revocation, CertificateRefusal> {
    match (begun, site) {
        (Some(begun), _) if reason == RevocationReason::Unspecified => Ok(begun.clone()),
        (Some(begun), _) => Ok(Revocation { reason, ..begun.clone() }),
        (None, None) => Err(CertificateRefusal::NotAttached(name.clone())),
        (None, Some(site)) => present.and_then(|present| Revocation::of(present, reason)).ok_or_else(|| {
            let from = site.rules.certificate.from.clone();
            CertificateRefusal::NothingToRevoke { site: site.main().clone(), from }
        }),
    }
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

    /// Decides that it is remembered, so that it is continued, whatever comes in between.
    pub fn remember(&self, all: &[Revocation]) -> Plan {
        let mut plan = Plan::new(format!("remember to revoke the certificate of {}", self.site));
        if !all.contains(self) {
            plan.set.inventory(InventoryChange::RememberRevocation(self.clone()));
        }
        plan
    }

    /// Decides to notify the CA. A certificate that the site still has is known as revoked from then on.
    pub fn tell(&self, present: Option<&Certificate>, remembered: bool) -> Plan {
        let mut plan = Plan::new(self.title());
        let (site, chain) = (self.site.clone(), self.files.chain());
        let told = ToldToCa::Revocation { site, chain, reason: self.reason };
        plan.change(Change::TellCa(CaErrand { ca: self.ca.clone(), told }));
        if let Some(present) = present.filter(|_| self.is_of(present)) {
            let revoked = Certificate { state: CertificateState::Revoked, ..present.clone() };
            plan.set.inventory(InventoryChange::RecordCertificate(revoked));
        }
        if remembered {
            let folder = self.files.folder().to_path_buf();
            plan.set.inventory(InventoryChange::ForgetRevocation { folder, told: true });
        }
        plan
    }
}

/// Whether, after what [`Revocation::tell`] gave, the site still uses that very certificate, since it has no other.
pub fn is_still_shown(told: &Plan) -> bool {
    told.set.inventory_changes().any(|change| matches!(change, InventoryChange::RecordCertificate(_)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::certificate::{CertificateDetails, CertificateFiles};

    fn certificate(folder: &str, source: CertificateSource) -> Certificate {
        Certificate {
            site: Host::parse("gullrock.example").unwrap(),
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
        let plan = forget_over(&[of("/h/1"), later], "2026-11-27T00:00:00Z".parse().unwrap());
        let folder = "/h/1".into();
        assert_eq!(
            plan.set.inventory_changes().collect::<Vec<_>>(),
            [&InventoryChange::ForgetRevocation { folder, told: false }]
        );
        let site = of("/h/1").site;
        assert_eq!(plan.remarks, [CertificateRemark::RevocationOver { site }.into()]);
    }

    #[test]
    fn the_very_certificate_is_meant_whatever_the_site_has_by_then() {
        let old = certificate("/h/1", CertificateSource::Ca);
        let revocation = Revocation::of(&old, RevocationReason::KeyCompromise).unwrap();
        let lines = |present: Option<&Certificate>| {
            revocation.tell(present, true).set.changes.iter().map(Change::line).collect::<Vec<_>>()
        };
        let told = "tell the CA default: revoke the certificate of gullrock.example (key-compromise)";
        let forget = "inventory: forget that the certificate in /h/1 is to be revoked";
        let newer = certificate("/h/2", CertificateSource::Ca);
        assert_eq!(lines(Some(&newer)), [told, forget]);
        assert_eq!(lines(None), [told, forget]);
        assert_eq!(lines(Some(&old)), [told, "inventory: record the certificate of gullrock.example", forget]);
        assert_eq!(revocation.tell(None, false).set.changes.len(), 1);
        assert!(revocation.is_of(Some(&old)) && !revocation.is_of(Some(&newer)) && !revocation.is_of(None));
    }

    #[test]
    fn one_that_was_begun_is_gone_on_with_and_remembered_once() {
        let name = Host::parse("gullrock.example").unwrap();
        let old = certificate("/h/1", CertificateSource::Ca);
        let begun = Revocation::of(&old, RevocationReason::Superseded).unwrap();
        let newer = certificate("/h/2", CertificateSource::Ca);
        let again = wanted(Some(&begun), None, Some(&newer), &name, RevocationReason::Unspecified);
        assert_eq!(again.as_ref(), Ok(&begun));
        let other = wanted(Some(&begun), None, None, &name, RevocationReason::KeyCompromise).unwrap();
        assert_eq!((other.reason, &other.files), (RevocationReason::KeyCompromise, &begun.files));
        let nobody = wanted(None, None, None, &name, RevocationReason::Unspecified);
        assert_eq!(nobody, Err(CertificateRefusal::NotAttached(name)));
        assert_eq!(begun.remember(&[]).set.changes.len(), 1);
        assert!(begun.remember(std::slice::from_ref(&begun)).is_empty());
    }
}

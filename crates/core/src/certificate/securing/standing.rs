//! What is to be ordered, and what the certificate in place stands for meanwhile: whatever takes its place covers at least as
//! much, and nothing is ordered that covers no more.

use jiff::Timestamp;

use super::{Kept, Present, Wanted};
use crate::acme::Identifier;
use crate::certificate::{Certificate, CertificateSource, CertificateWish, Distrust};
use crate::delegation::Cuts;
use crate::harbor::WhenUrgent;
use crate::name::{Host, Hostname};
use crate::site::Site;

/// What is to be ordered.
#[derive(Debug, Clone)]
pub struct ToOrder {
    pub names: Vec<Host>,
    pub present: Option<Certificate>,
    /// Whether visitors trust that one.
    pub trusted: bool,
    /// That one, if it may stay where nothing better is to be had.
    pub(super) standing: Option<Standing>,
    /// That of the site, as far as it can be met now.
    pub wish: Box<CertificateWish>,
    /// The servers of zones that were seen.
    pub zones: Cuts,
}

/// A certificate in place that is good: whatever takes its place covers at least as much.
#[derive(Debug, Clone)]
pub(super) struct Standing {
    /// The hosts of the site that it covers.
    covered: Vec<Host>,
    wildcards: Vec<Hostname>,
    /// Whether a new one is wanted even if it covers no more.
    renewed: bool,
}

/// What to do when a CA has refused some of the names.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Rest {
    /// The rest is worth an order.
    Order,
    /// The certificate in place covers the rest already.
    AsGood,
    /// It covers names that the rest leaves out.
    CoversLess,
}

/// What a good certificate covers that its successor may not, since it cannot stay for it.
#[derive(Debug, Clone)]
pub(super) struct GivingUp {
    certificate: Certificate,
    /// Whether it cannot stay because it ends; else its key or its CA is the reason.
    urgent: bool,
}

impl GivingUp {
    pub fn of(present: &Present, now: Timestamp) -> Option<Self> {
        let certificate = present.certificate.clone();
        let urgent = Kept::of(&certificate).urgent_from <= now;
        certificate.is_good(now).then_some(Self { certificate, urgent })
    }

    /// Why a name is left out, and whether it is given up by that.
    pub fn told(&self, name: &Identifier, why: String) -> String {
        let wildcards = &self.certificate.details.wildcards;
        let is_covered = match name.wildcard {
            true => wildcards.iter().any(|parent| Identifier::below(parent) == *name),
            false => self.certificate.covers(&name.name),
        };
        let ends = self.certificate.not_after.strftime("%Y-%m-%d");
        match (is_covered, self.urgent) {
            (false, _) => why,
            (true, true) => format!(
                "{why}; the certificate before covers it and ends on {ends}, so that the others go on without it \
                 (`when-urgent` of the CA in harbor.toml)"
            ),
            (true, false) => format!("{why}; the certificate before covers it, and had to go"),
        }
    }
}

/// What the certificate in place stands for, while it is good and nothing is urgent, or is to be waited for all the same.
pub(super) fn standing(
    site: &Site,
    present: &Present,
    wanted: Wanted,
    when_urgent: WhenUrgent,
    now: Timestamp,
) -> Option<Standing> {
    let (Present { certificate, key, .. }, wish) = (present, &site.rules.certificate);
    // One whose key may be known goes, and one that its CA calls back, whatever it covers.
    let goes = [Wanted::NewKey, Wanted::CalledBack].contains(&wanted);
    let is_urgent = Kept::of(certificate).urgent_from <= now && when_urgent == WhenUrgent::FewerNames;
    if goes || !certificate.is_good(now) || is_urgent {
        return None;
    }
    let covered: Vec<Host> = site.hostnames.iter().filter(|host| certificate.covers(host)).cloned().collect();
    let wildcards: Vec<Hostname> =
        certificate.details.wildcards.iter().filter(|one| wish.wildcards.contains(one)).cloned().collect();
    // Whether the wildcards are those of the wish is what the order is about.
    let wish = CertificateWish { wildcards: certificate.details.wildcards.clone(), ..(**wish).clone() };
    let renewed = wanted == Wanted::New
        || certificate.is_due(now)
        || certificate.source == CertificateSource::Shared
        || !wish.is_met_by(certificate, key.as_deref());
    Some(Standing { covered, wildcards, renewed })
}

impl ToOrder {
    /// Whether one that was issued is laid aside: visitors trust the one in place, and would not trust it.
    pub fn lays_aside(&self, judged: &Result<(), Distrust>) -> bool {
        self.trusted && judged.is_err()
    }

    /// What is to be done when only these names are left of it.
    pub fn rest(&self, names: &[Host], wildcards: &[Hostname]) -> Rest {
        let Some(standing) = &self.standing else { return Rest::Order };
        if self.lost(names, wildcards).is_some() {
            return Rest::CoversLess;
        }
        let covers_all = names.iter().all(|name| standing.covered.contains(name))
            && wildcards.iter().all(|parent| standing.wildcards.contains(parent));
        if covers_all && !standing.renewed { Rest::AsGood } else { Rest::Order }
    }

    /// Something that the certificate in place covers and that an order for these would leave out.
    pub(super) fn lost(&self, names: &[Host], wildcards: &[Hostname]) -> Option<Identifier> {
        let standing = self.standing.as_ref()?;
        let below = |host: &Host| {
            wildcards.iter().any(|parent| host.name().and_then(Hostname::parent).as_ref() == Some(parent))
        };
        let host = standing.covered.iter().find(|host| !names.contains(host) && !below(host));
        let wildcard = || standing.wildcards.iter().find(|parent| !wildcards.contains(parent)).map(Identifier::below);
        host.map(|host| host.clone().into()).or_else(wildcard)
    }
}

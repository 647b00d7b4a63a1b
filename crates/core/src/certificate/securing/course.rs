//! One site on its way to a served certificate: how far it has come, and where what happened takes it.

use jiff::Timestamp;

use super::standing::{GivingUp, standing};
use super::{
    Arrived, Issued, Kept, Looked, NotIssued, Ordered, Present, Refused, SecureOutcome, Secured, Shown, ToOrder, Wanted,
};
use crate::acme::Identifier;
use crate::certificate::{
    Certificate, CertificateRefusal, CertificateSource, CertificateState, CertificateWish, NamePause, ProofWish,
    refuse_uncovered,
};
use crate::harbor::WhenUrgent;
use crate::name::Host;
use crate::site::Site;

/// How far a site has come.
#[derive(Debug, Clone)]
pub enum Stage {
    /// Where its names lead has to be looked at.
    ToLook,
    ToOrder(Box<ToOrder>),
    Arrived(Box<Arrived>),
    /// In place; whether it came just now.
    InPlace {
        certificate: Box<Certificate>,
        new: bool,
    },
    /// A handshake has shown it.
    Verified {
        certificate: Box<Certificate>,
        new: bool,
        shown: Shown,
    },
    /// http is sent to https, where that is the site's policy.
    Settled {
        certificate: Box<Certificate>,
        new: bool,
    },
    Ended(SecureOutcome),
}

/// One site on its way.
#[derive(Debug, Clone)]
pub struct Course {
    pub site: Site,
    pub left_out: Vec<(Identifier, String)>,
    /// How many of them were left out before the CA was asked.
    left_at_look: usize,
    stale_until: Option<Timestamp>,
    /// What the certificate in place covers, where it cannot stay for it.
    giving_up: Option<GivingUp>,
    pub stage: Stage,
}

impl Course {
    /// The first step for a site. `shared` is what the site has whose certificate this one takes, if it takes one.
    pub fn begin(
        site: &Site,
        wanted: Wanted,
        present: Option<&Present>,
        shared: Option<Result<&Issued, CertificateRefusal>>,
    ) -> Result<Self, CertificateRefusal> {
        let mut course = Self { stage: Stage::ToLook, ..Self::at(site) };
        if wanted == Wanted::Verification {
            course.stage = match present {
                Some(present) => in_place(&present.certificate, false),
                None => Stage::Ended(SecureOutcome::NotYet),
            };
        } else if let (Some(shared), Some(from)) = (shared, &site.rules.certificate.from) {
            let issued = shared?;
            refuse_uncovered(site, from, &issued.chain_pem)?;
            let same = present.filter(|present| present.chain_pem.as_ref() == Some(&issued.chain_pem));
            if let Some(present) = same {
                course.stage = in_place(&present.certificate, false);
                return Ok(course);
            }
            let arrived = Arrived {
                issued: issued.clone(),
                names: site.hostnames.clone(),
                wildcards: vec![],
                ca: None,
                profile: None,
                stapled: false,
            };
            course.stage = Stage::Arrived(Box::new(arrived));
        }
        Ok(course)
    }

    fn at(site: &Site) -> Self {
        let (left_out, stage) = (vec![], Stage::ToLook);
        Self { site: site.clone(), left_out, left_at_look: 0, stale_until: None, giving_up: None, stage }
    }

    /// One that was put in place by another way, and has to be shown by a handshake.
    pub fn in_place(site: &Site, certificate: &Certificate) -> Self {
        let stage = in_place(certificate, true);
        Self { stage, ..Self::at(site) }
    }

    /// The names that control is proven of by DNS alone, so that where they lead does not matter.
    pub fn needs_no_look(site: &Site) -> Option<Looked> {
        let by_dns = site.rules.certificate.proof == ProofWish::Dns01;
        let names = site.hostnames.iter().filter(|name| name.address().is_none());
        by_dns.then(|| Looked { leading: names.cloned().collect(), ..Looked::default() })
    }

    /// Where the names lead is known: what there is is enough, or something is ordered, or nothing can be done yet.
    pub fn looked(
        &mut self,
        looked: Looked,
        wanted: Wanted,
        present: Option<Present>,
        when_urgent: WhenUrgent,
        now: Timestamp,
    ) {
        let (mut names, proof, mut left_out) = askable(&self.site, &looked);
        let mut wish = self.site.rules.certificate.clone();
        if [Wanted::InTurn, Wanted::CalledBack].contains(&wanted) {
            let paused = looked.paused.iter().filter(|pause| pause.not_before > now);
            for NamePause { name, reason, .. } in paused {
                names.retain(|host| *name != Identifier::from(host.clone()));
                wish.wildcards.retain(|parent| *name != Identifier::below(parent));
                left_out.push((name.clone(), reason.clone()));
            }
        }
        self.left_out = left_out;
        (self.left_at_look, self.stale_until) = (self.left_out.len(), looked.stale_until);
        let enough = [Wanted::Enough, Wanted::InTurn].contains(&wanted);
        self.stage = match present {
            _ if names.is_empty() => Stage::Ended(SecureOutcome::NotYet),
            Some(present) if enough && is_enough(&present, &names, &wish, now) => in_place(&present.certificate, false),
            present => {
                let standing = present.as_ref().and_then(|one| standing(&self.site, one, wanted, when_urgent, now));
                if standing.is_none() {
                    self.giving_up = present.as_ref().and_then(|present| GivingUp::of(present, now));
                    self.left_out = given_up(self.giving_up.as_ref(), std::mem::take(&mut self.left_out));
                }
                // One that is revoked is worth nothing to those who ask.
                let is_revoked = |present: &Present| present.certificate.state == CertificateState::Revoked;
                let trusted = present.as_ref().is_some_and(|present| present.trusted && !is_revoked(present));
                let present = present.map(|present| present.certificate);
                // Why one was revoked may be that its key is known.
                let revoked = present.as_ref().is_some_and(|one| one.state == CertificateState::Revoked);
                let keep_key = wish.keep_key && wanted != Wanted::NewKey && !revoked;
                let wish = Box::new(CertificateWish { proof, keep_key, ..*wish });
                let order = ToOrder { names, present, trusted, standing, wish, zones: looked.zones };
                match order.lost(&order.names, &order.wish.wildcards) {
                    Some(lost) => self.would_cover_less(&order, lost),
                    None => Stage::ToOrder(Box::new(order)),
                }
            }
        };
    }

    /// A name that the certificate in place covers cannot be proven now: it stays until it is urgent.
    fn would_cover_less(&self, order: &ToOrder, lost: Identifier) -> Stage {
        let why = self.left_out.iter().find(|(name, _)| *name == lost).map_or("", |(_, why)| why.as_str());
        let why = NotIssued {
            code: "would-cover-less",
            reason: format!("{lost}, which the certificate in place covers, cannot be proven now: {why}"),
            not_before: None,
            busy: false,
            names: vec![],
        };
        Stage::Ended(SecureOutcome::Refused { why, kept: order.present.as_ref().map(Kept::of) })
    }

    /// The CA has issued it, or not. Gives what is to be remembered when nothing came of it.
    pub fn ordered(&mut self, result: Result<Ordered, NotIssued>) -> Option<Refused> {
        let Stage::ToOrder(to_order) = &self.stage else { return None };
        match result {
            Ok(Ordered { aside: Some(aside), .. }) => {
                let reason = aside.reason();
                let refused =
                    Refused { site: self.site.main().clone(), reason: reason.clone(), not_before: None, names: vec![] };
                let why = NotIssued { code: "issued-untrusted", reason, not_before: None, busy: false, names: vec![] };
                self.stage =
                    Stage::Ended(SecureOutcome::Refused { why, kept: to_order.present.as_ref().map(Kept::of) });
                Some(refused)
            }
            Ok(Ordered { issued, names, wildcards, ca, profile, stapled, refused, aside: None }) => {
                self.left_out.extend(given_up(self.giving_up.as_ref(), refused));
                self.stage = match (issued, &to_order.present) {
                    (Some(issued), _) => {
                        Stage::Arrived(Box::new(Arrived { issued, names, wildcards, ca, profile, stapled }))
                    }
                    (None, Some(present)) => in_place(present, false),
                    (None, None) => Stage::Ended(SecureOutcome::NotYet),
                };
                None
            }
            Err(why) => {
                let refused = Refused {
                    site: self.site.main().clone(),
                    reason: why.reason.clone(),
                    not_before: why.not_before.or(self.stale_until),
                    names: why.names.clone(),
                };
                let remembered = !why.busy;
                let kept = to_order.present.as_ref().map(Kept::of);
                self.stage = Stage::Ended(SecureOutcome::Refused { why, kept });
                remembered.then_some(refused)
            }
        }
    }

    /// It was installed, or its handshake settled; `recorded` is what the inventory has of it.
    pub fn applied(&mut self, recorded: Option<Certificate>) -> Result<(), CertificateRefusal> {
        self.stage = match std::mem::replace(&mut self.stage, Stage::Ended(SecureOutcome::NotYet)) {
            Stage::Verified { certificate, shown, .. } if !shown.others.is_empty() => {
                Stage::Ended(SecureOutcome::NotShown { certificate, reason: shown.reason() })
            }
            Stage::Verified { mut certificate, new, .. } => {
                certificate.state = CertificateState::Served;
                Stage::Settled { certificate, new }
            }
            Stage::Arrived(_) => {
                let lost = || CertificateRefusal::Detached(self.site.main().clone());
                in_place(&recorded.ok_or_else(lost)?, true)
            }
            other => other,
        };
        Ok(())
    }

    /// Handshakes with every address of this host have shown it, or something else. What was shown for one host counts,
    /// whatever was for another.
    pub fn shown(&mut self, shown: Shown) {
        let Stage::InPlace { certificate, new } = &self.stage else { return };
        let certificate = certificate.clone();
        self.stage = match shown.hosts.is_empty() {
            false => Stage::Verified { certificate, new: *new, shown },
            true => Stage::Ended(SecureOutcome::NotShown { certificate, reason: shown.reason() }),
        };
    }

    /// What the CA has refused of a site that is served all the same.
    pub fn partly_refused(&self) -> Option<Refused> {
        let by_ca = self.left_out.get(self.left_at_look..).unwrap_or_default();
        let is_served = matches!(self.stage, Stage::Verified { .. } | Stage::Settled { .. });
        if by_ca.is_empty() || !is_served {
            return None;
        }
        let reason = by_ca.iter().map(|(name, why)| format!("{name}: {why}")).collect::<Vec<_>>().join("; ");
        let (site, names) = (self.site.main().clone(), by_ca.to_vec());
        Some(Refused { site, reason, not_before: self.stale_until, names })
    }

    /// Whether a change is due: something has arrived, or a handshake has shown something.
    pub fn is_to_apply(&self) -> bool {
        matches!(self.stage, Stage::Arrived(_) | Stage::Verified { .. })
    }

    /// What came of it; `None` for a course that has not come to its end.
    pub fn ended(self) -> Option<Secured> {
        let outcome = match self.stage {
            Stage::Ended(outcome) => outcome,
            Stage::Settled { certificate, new } => SecureOutcome::Served { certificate, new },
            _ => return None,
        };
        Some(Secured { site: self.site.main().clone(), outcome, left_out: self.left_out })
    }
}

/// What is left out, and whether it is given up by that.
fn given_up(giving_up: Option<&GivingUp>, left_out: Vec<(Identifier, String)>) -> Vec<(Identifier, String)> {
    let Some(giving_up) = giving_up else { return left_out };
    left_out.into_iter().map(|(name, why)| (name.clone(), giving_up.told(&name, why))).collect()
}

fn in_place(certificate: &Certificate, new: bool) -> Stage {
    Stage::InPlace { certificate: Box::new(certificate.clone()), new }
}

/// The names that a CA can be asked for, what they are proven by, and those that are left out.
pub(super) fn askable(site: &Site, looked: &Looked) -> (Vec<Host>, ProofWish, Vec<(Identifier, String)>) {
    let wish = site.rules.certificate.proof;
    let (mut names, mut left_out) = (looked.leading.clone(), looked.left_out.clone());
    let mut proof = wish;
    if !looked.without_http.is_empty() {
        match wish.without_http(looked.means) {
            Some(other) => {
                proof = other;
                names.extend(looked.without_http.iter().map(|(name, _)| name.clone()));
                names.sort_by_key(|name| site.hostnames.iter().position(|other| other == name));
            }
            None => left_out.extend(looked.without_http.clone()),
        }
    }
    (names, proof, left_out.into_iter().map(|(name, why)| (name.into(), why)).collect())
}

/// One that was imported is good until it ends; a stop-gap never is, nor what was another site's.
fn is_enough(present: &Present, names: &[Host], wish: &CertificateWish, now: Timestamp) -> bool {
    let Present { certificate, key, .. } = present;
    let covers = names.iter().all(|name| certificate.covers(name)) && wish.is_met_by(certificate, key.as_deref());
    let lasts = !certificate.is_due(now) && certificate.not_after > now;
    let own = matches!(certificate.source, CertificateSource::Ca | CertificateSource::Imported);
    covers && lasts && own && certificate.state != CertificateState::Revoked
}

#[cfg(test)]
#[path = "course_tests.rs"]
mod tests;

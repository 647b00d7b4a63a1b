//! Carries a revocation through: the successor, then whoever else has the certificate, then the CA. Used by
//! `certificate revoke`, and by `tend` for what could not be done then.

use brightharbor_core::certificate::Revocation;
use brightharbor_core::certificate::revocation::is_still_shown;
use brightharbor_core::certificate::securing::{Secured, Wanted};
use brightharbor_core::name::Hostname;
use brightharbor_core::site::Site;

use super::error::StillHas;
use super::{Brought, GoOn, WorkDoor, WorkError, bring, outdated, secure, secure_all};
use crate::acme::has_account;
use crate::door::{Changed, Manner, change};

/// What came of it.
#[derive(Debug)]
pub struct Revoked {
    pub revocation: Revocation,
    pub successor: Option<Secured>,
    /// The sites that share the certificate, which have its successor now.
    pub sites: Vec<Secured>,
    pub services: Vec<Brought>,
    pub changed: Changed,
}

impl Revoked {
    pub fn is_still_shown(&self) -> bool {
        is_still_shown(&self.changed.plan)
    }
}

/// Tells the CA once nobody here has the certificate any more.
pub async fn carry_through(door: &WorkDoor<'_>, revocation: &Revocation) -> Result<Revoked, WorkError> {
    let harbor = (door.open)()?;
    // A site that was detached meanwhile needs no successor.
    let site = harbor.store.site_of(&revocation.site)?;
    let present = harbor.store.certificate_of(&revocation.site)?;
    drop(harbor);
    let (mut successor, mut sites, mut services) = (None, vec![], vec![]);
    if let Some(site) = site {
        let wanted = if revocation.is_of(present.as_ref()) { Wanted::NewKey } else { Wanted::Enough };
        let secured = secure(door, &site, wanted).await?;
        if !secured.is_served() {
            return Err(WorkError::NoSuccessor(site.main().clone()));
        }
        successor = Some(secured);
        (sites, services) = follow(door, &site).await?;
    }
    let changed = tell_revocation(door, revocation, &GoOn).await?;
    Ok(Revoked { revocation: revocation.clone(), successor, sites, services, changed })
}

/// Tells the CA at once.
pub async fn tell_revocation<E: From<crate::door::DoorError> + From<WorkError>>(
    door: &crate::door::Door<'_, E>,
    revocation: &Revocation,
    manner: &dyn Manner<E>,
) -> Result<Changed, E> {
    let (changed, ()) = change(door, &revocation.title(), manner, async |overlay, _| {
        let work = |error: WorkError| E::from(error);
        has_account(&overlay.settings, &overlay.layout, &revocation.ca).map_err(|error| work(error.into()))?;
        let present = overlay.store.certificate_of(&revocation.site).map_err(|error| work(error.into()))?;
        let all = overlay.store.revocations().map_err(|error| work(error.into()))?;
        let remembered = all.iter().any(|other| other.files == revocation.files);
        Ok((revocation.tell(present.as_ref(), remembered), ()))
    })
    .await?;
    Ok(changed)
}

/// Who else has the certificate gets its successor: the sites that share it, and the services of their names.
async fn follow(door: &WorkDoor<'_>, site: &Site) -> Result<(Vec<Secured>, Vec<Brought>), WorkError> {
    let harbor = (door.open)()?;
    let shares = |other: &Site| other.rules.certificate.from.as_ref() == Some(site.main());
    let mut sites = Vec::new();
    for name in outdated(&harbor, &harbor.store.all_certificates()?)? {
        sites.extend(harbor.store.site_of(&name)?.filter(shares));
    }
    let named = |name: &Hostname| std::iter::once(site).chain(&sites).any(|site| site.has(name));
    let services = harbor.settings.services.iter().filter(|(_, service)| named(&service.hostname));
    let services: Vec<String> = services.map(|(name, _)| name.clone()).collect();
    drop(harbor);
    let mut followed = Vec::new();
    for secured in secure_all(door, &sites, Wanted::Enough).await? {
        followed.push(secured?);
    }
    let mut brought = Vec::new();
    for name in &services {
        brought.extend(bring(door, Some(name)).await?);
    }
    if let Some(left) = followed.iter().find(|secured| !secured.is_served()) {
        return Err(WorkError::StillHas(StillHas::Site(left.site.clone())));
    }
    if let Some(left) = brought.iter().find(|brought| brought.problem.is_some()) {
        return Err(WorkError::StillHas(StillHas::Service(left.service.clone())));
    }
    Ok((followed, brought))
}

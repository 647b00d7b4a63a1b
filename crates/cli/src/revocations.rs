//! Carries a revocation through: the successor, then whoever else has the certificate, then the CA. Used by
//! `certificate revoke`, and by `tend` for what could not be done then.

use brightharbor_core::certificate::Revocation;
use brightharbor_core::change::InventoryChange;
use brightharbor_core::site::Site;
use brightharbor_io::acme::has_account;

use crate::error::Error;
use crate::options::ChangeOptions;
use crate::run::{Changed, Context, Decision, change};
use crate::secure::{SecureOutcome, Secured, Wanted, outdated, secure_all, secure_as};
use crate::services::{Brought, bring};

/// What came of it.
pub struct Revoked {
    pub revocation: Revocation,
    pub successor: Option<Secured>,
    /// The sites that share the certificate, which have its successor now.
    pub sites: Vec<Secured>,
    pub services: Vec<Brought>,
    pub changed: Changed,
}

impl Revoked {
    /// Whether the site goes on with the very certificate, since it has no other.
    pub fn is_still_shown(&self) -> bool {
        let recorded = |change: &InventoryChange| matches!(change, InventoryChange::RecordCertificate(_));
        self.changed.set.inventory_changes().any(recorded)
    }
}

/// Tells the CA once nobody here has the certificate any more.
pub async fn carry_through(
    context: &Context,
    revocation: &Revocation,
    options: &ChangeOptions,
) -> Result<Revoked, Error> {
    let harbor = context.open()?;
    // A site that was detached meanwhile needs no successor.
    let site = harbor.store.site_of(&revocation.site)?;
    let present = harbor.store.certificate_of(&revocation.site)?;
    drop(harbor);
    let (mut successor, mut sites, mut services) = (None, vec![], vec![]);
    if let Some(site) = site {
        let wanted = if revocation.is_of(present.as_ref()) { Wanted::NewKey } else { Wanted::Enough };
        let secured = secure_as(context, &site, wanted).await?;
        if !is_served(&secured) {
            let message = format!("no new certificate of {} is served, so that the former is not revoked", site.main());
            return Err(not_yet(message, &format!("brightharbor certificate issue {}", site.main())));
        }
        successor = Some(secured);
        (sites, services) = follow(context, &site, options).await?;
    }
    let changed = tell(context, revocation, options).await?;
    Ok(Revoked { revocation: revocation.clone(), successor, sites, services, changed })
}

/// Tells the CA at once.
pub async fn tell(context: &Context, revocation: &Revocation, options: &ChangeOptions) -> Result<Changed, Error> {
    change(context, &revocation.title(), options, async |harbor, _| {
        has_account(&harbor.settings, &harbor.layout, &revocation.ca)?;
        let present = harbor.store.certificate_of(&revocation.site)?;
        let remembered = harbor.store.revocations()?.iter().any(|other| other.files == revocation.files);
        Ok(Decision { set: revocation.tell(present.as_ref(), remembered), said: vec![] })
    })
    .await
}

/// What would be told once a successor is there.
pub async fn foresee(context: &Context, revocation: &Revocation) -> Result<Changed, Error> {
    let options = ChangeOptions { dry_run: true, yes: false };
    change(context, &revocation.title(), &options, async |_, _| {
        let said = vec!["before that, a new certificate with a new key is got, installed and proven".into()];
        Ok(Decision { set: revocation.tell(None, false), said })
    })
    .await
}

/// Who else has the certificate gets its successor: the sites that share it, and the services of their names.
async fn follow(
    context: &Context,
    site: &Site,
    options: &ChangeOptions,
) -> Result<(Vec<Secured>, Vec<Brought>), Error> {
    let harbor = context.open()?;
    let shares = |other: &Site| other.rules.certificate.from.as_ref() == Some(site.main());
    let mut sites = Vec::new();
    for name in outdated(&harbor, &harbor.store.all_certificates()?)? {
        sites.extend(harbor.store.site_of(&name)?.filter(shares));
    }
    let named = |hostname| std::iter::once(site).chain(&sites).any(|site| site.hostnames.contains(hostname));
    let services = harbor.settings.services.iter().filter(|(_, service)| named(&service.hostname));
    let services: Vec<String> = services.map(|(name, _)| name.clone()).collect();
    drop(harbor);
    let mut followed = Vec::new();
    for secured in secure_all(context, &sites, Wanted::Enough).await? {
        followed.push(secured?);
    }
    let mut brought = Vec::new();
    for name in &services {
        brought.extend(bring(context, Some(name), options).await?);
    }
    let still = |who: &str| format!("{who} still has the certificate, so that the CA was not told to revoke it yet");
    if let Some(left) = followed.iter().find(|secured| !is_served(secured)) {
        return Err(not_yet(still(left.site.as_str()), &format!("brightharbor certificate issue {}", left.site)));
    }
    if let Some(left) = brought.iter().find(|brought| brought.problem.is_some()) {
        let who = format!("the service {}", left.service);
        return Err(not_yet(still(&who), &format!("brightharbor certificate install --service {}", left.service)));
    }
    Ok((followed, brought))
}

fn is_served(secured: &Secured) -> bool {
    matches!(secured.outcome, SecureOutcome::Served { .. })
}

fn not_yet(message: String, look: &str) -> Error {
    Error::refused("no-successor", message).advice(format!(
        "see why: {look}; `brightharbor tend` goes on with it; or revoke it all the same: --without-successor"
    ))
}

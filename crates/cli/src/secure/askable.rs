//! The names of a site that a CA can be asked for, looked at before it is; and the same told without asking.

use brightharbor_core::acme::{Identifier, identifiers};
use brightharbor_core::delegation::Cuts;
use brightharbor_core::name::Hostname;
use brightharbor_core::site::{ProofWish, Site};
use brightharbor_io::acme::foresee_forbidden;
use brightharbor_io::harbor::Harbor;
use jiff::Timestamp;

use super::remembering::stale_until;
use crate::error::Error;
use crate::look::look_for_proofs;

/// What the look has come to.
pub(super) struct Askable {
    pub names: Vec<Hostname>,
    pub left_out: Vec<(Identifier, String)>,
    /// The servers of zones that were seen.
    pub zones: Cuts,
    /// Until when resolvers may still give old answers.
    pub stale: Option<Timestamp>,
}

/// Looks where the names lead, if their proof depends on it.
pub(super) async fn askable(harbor: &Harbor, site: &Site) -> Result<Askable, Error> {
    if site.rules.certificate.proof == ProofWish::Dns01 {
        let names = site.hostnames.iter().filter(|name| name.address().is_none()).cloned().collect();
        return Ok(Askable { names, left_out: vec![], zones: Cuts::new(), stale: None });
    }
    let looked = look_for_proofs(harbor, site).await?;
    let stale = stale_until(&looked.surveys);
    let left_out = looked.left_out.into_iter().map(|(name, why)| (name.into(), why)).collect();
    Ok(Askable { names: looked.leading, left_out, zones: looked.zones, stale })
}

/// What an order would ask for.
pub struct Foreseen {
    pub covered: Vec<Identifier>,
    pub left_out: Vec<(Identifier, String)>,
    /// Why the CA cannot be asked what it goes by in CAA records.
    pub ca_silent: Option<String>,
}

/// Says what would be ordered for a site. Nothing is changed, and the CA gets no order.
pub async fn foresee(harbor: &Harbor, site: &Site) -> Result<Foreseen, Error> {
    let wish = &site.rules.certificate;
    let Askable { names, mut left_out, zones, .. } = askable(harbor, site).await?;
    let mut covered = identifiers(&names, &wish.wildcards);
    let mut ca_silent = None;
    if let Some(ca) = harbor.settings.ca_named(wish.ca.as_deref()) {
        let about = (wish.proof, &covered[..]);
        match foresee_forbidden(ca, &harbor.layout, &harbor.settings, &zones, about).await {
            Ok(forbidden) => {
                covered.retain(|one| forbidden.iter().all(|(identifier, _)| identifier != one));
                left_out.extend(forbidden);
            }
            Err(reason) => ca_silent = Some(reason),
        }
    }
    Ok(Foreseen { covered, left_out, ca_silent })
}

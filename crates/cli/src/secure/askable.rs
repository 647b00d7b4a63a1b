//! The names of a site that a CA can be asked for, looked at before it is; and the same told without asking.

use brightharbor_core::acme::{Identifier, ProofKind, identifiers};
use brightharbor_core::certificate::{Means, ProofWish};
use brightharbor_core::delegation::Cuts;
use brightharbor_core::name::Hostname;
use brightharbor_core::site::Site;
use brightharbor_core::zone::ZoneHome;
use brightharbor_io::acme::foresee_forbidden;
use brightharbor_io::harbor::Harbor;
use brightharbor_io::probe::takes_connections;
use jiff::Timestamp;

use super::remembering::stale_until;
use crate::error::Error;
use crate::look::{Looked, look_for_proofs};

/// What the look has come to.
pub(super) struct Askable {
    pub names: Vec<Hostname>,
    /// What they are to be proven by.
    pub proof: ProofWish,
    pub left_out: Vec<(Identifier, String)>,
    /// The servers of zones that were seen.
    pub zones: Cuts,
    /// Until when resolvers may still give old answers.
    pub stale: Option<Timestamp>,
}

/// Looks where the names lead, if their proof depends on it.
pub(super) async fn askable(harbor: &Harbor, site: &Site) -> Result<Askable, Error> {
    let wish = site.rules.certificate.proof;
    if wish == ProofWish::Dns01 {
        let names = site.hostnames.iter().filter(|name| name.address().is_none()).cloned().collect();
        return Ok(Askable { names, proof: wish, left_out: vec![], zones: Cuts::new(), stale: None });
    }
    let Looked { mut leading, without_http, mut left_out, surveys, zones, .. } = look_for_proofs(harbor, site).await?;
    let mut proof = wish;
    if !without_http.is_empty() {
        match wish.without_http(means(harbor, site).await?) {
            Some(other) => {
                proof = other;
                leading.extend(without_http.into_iter().map(|(name, _)| name));
                leading.sort_by_key(|name| site.hostnames.iter().position(|other| other == name));
            }
            None => left_out.extend(without_http),
        }
    }
    let left_out = left_out.into_iter().map(|(name, why)| (name.into(), why)).collect();
    Ok(Askable { names: leading, proof, left_out, zones, stale: stale_until(&surveys) })
}

/// What the names of a site can be proven by beside http. Where https is closed as well, the web server is down, and what
/// would come from the CA could not be installed.
async fn means(harbor: &Harbor, site: &Site) -> Result<Means, Error> {
    let Harbor { settings, store, .. } = harbor;
    let mut is_up = false;
    for address in &settings.host.addresses {
        is_up = is_up || takes_connections((*address, settings.internet.https_port()).into()).await;
    }
    let mut by_dns = is_up;
    for name in &site.hostnames {
        let zone = store.enclosing_zone(name)?.filter(|_| name.address().is_none());
        by_dns = by_dns && zone.is_some_and(|zone| zone.home != ZoneHome::Elsewhere);
    }
    Ok(Means { over_tls: is_up && settings.web.tls_alpn_listen.is_some(), by_dns })
}

/// What an order would ask for.
pub struct Foreseen {
    /// With what each is proven by.
    pub covered: Vec<(Identifier, ProofKind)>,
    pub left_out: Vec<(Identifier, String)>,
    /// Why the CA cannot be asked what it goes by in CAA records.
    pub ca_silent: Option<String>,
}

/// Says what would be ordered for a site. Nothing is changed, and the CA gets no order.
pub async fn foresee(harbor: &Harbor, site: &Site) -> Result<Foreseen, Error> {
    let wish = &site.rules.certificate;
    let Askable { names, proof, mut left_out, zones, .. } = askable(harbor, site).await?;
    let mut covered = identifiers(&names, &wish.wildcards);
    let mut ca_silent = None;
    if let Some(ca) = harbor.settings.ca_named(wish.ca.as_deref()) {
        let about = (proof, &covered[..]);
        match foresee_forbidden(ca, &harbor.layout, &harbor.settings, &zones, about).await {
            Ok(forbidden) => {
                covered.retain(|one| forbidden.iter().all(|(identifier, _)| identifier != one));
                left_out.extend(forbidden);
            }
            Err(reason) => ca_silent = Some(reason),
        }
    }
    let with_kind = |one: Identifier| {
        let kind = proof.kind_for(&one);
        (one, kind)
    };
    let covered = covered.into_iter().map(with_kind).collect();
    Ok(Foreseen { covered, left_out, ca_silent })
}

//! Looks where the names of a site lead before a CA is asked; and says what an order would ask for.

use brightharbor_core::acme::{Identifier, ProofKind, identifiers};
use brightharbor_core::certificate::Means;
use brightharbor_core::certificate::securing::{Course, Looked};
use brightharbor_core::site::Site;
use brightharbor_core::survey::stale_until;
use brightharbor_core::zone::ZoneHome;

use super::WorkError;
use crate::acme::foresee_forbidden;
use crate::harbor::Harbor;
use crate::look::look_for_proofs;
use crate::probe::takes_connections;

/// Looks as far as a CA does that is to see proofs.
pub(super) async fn look(harbor: &Harbor, site: &Site) -> Result<Looked, WorkError> {
    let seen = look_for_proofs(harbor, site).await?;
    let means = match seen.without_http.is_empty() {
        true => Means::default(),
        false => means(harbor, site).await?,
    };
    Ok(Looked {
        leading: seen.leading,
        without_http: seen.without_http,
        left_out: seen.left_out,
        means,
        stale_until: stale_until(&seen.surveys),
        zones: seen.zones,
    })
}

/// What the names of a site can be proven by beside http. Where https is closed as well, the web server is down, and what
/// would come from the CA could not be installed.
async fn means(harbor: &Harbor, site: &Site) -> Result<Means, WorkError> {
    let Harbor { settings, store, .. } = harbor;
    let mut is_up = false;
    for address in &settings.host.addresses {
        is_up = is_up || takes_connections((*address, settings.internet.https_port()).into()).await;
    }
    let mut by_dns = is_up;
    for name in &site.hostnames {
        let zone = name.name().map(|name| store.enclosing_zone(name)).transpose()?.flatten();
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
pub async fn foresee(harbor: &Harbor, site: &Site) -> Result<Foreseen, WorkError> {
    let wish = &site.rules.certificate;
    let looked = match Course::needs_no_look(site) {
        Some(looked) => looked,
        None => look(harbor, site).await?,
    };
    let (names, proof, mut left_out) = looked.foresee(site);
    let mut covered = identifiers(&names, &wish.wildcards);
    let mut ca_silent = None;
    if let Some(ca) = harbor.settings.ca_named(wish.ca.as_deref()) {
        let about = (proof, &covered[..]);
        match foresee_forbidden(ca, &harbor.layout, &harbor.settings, &looked.zones, about).await {
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

//! Looks where the names of a site lead before a CA is asked; and says what an order would ask for.

use brightharbor_core::acme::{Identifier, ProofKind, identifiers};
use brightharbor_core::certificate::securing::{Looked, NotIssued, Rest, SecureOutcome, Stage, Wanted};
use brightharbor_core::certificate::{Certificate, Means};
use brightharbor_core::name::{Host, Hostname};
use brightharbor_core::site::Site;
use brightharbor_core::survey::stale_until;
use brightharbor_core::zone::ZoneHome;

use super::{WorkError, look_first};
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
        paused: vec![],
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

/// What would be done for a site.
#[derive(Default)]
pub struct Foreseen {
    /// What an order would ask for, with what each is proven by.
    pub covered: Vec<(Identifier, ProofKind)>,
    pub left_out: Vec<(Identifier, String)>,
    /// The certificate in place, where it is good and nothing would be ordered.
    pub in_place: Option<Certificate>,
    /// Why nothing would come of it.
    pub refused: Option<NotIssued>,
    /// Why the CA cannot be asked what it goes by in CAA records.
    pub ca_silent: Option<String>,
}

/// Says what would be done for a site. Nothing is changed, and the CA gets no order.
pub async fn foresee(harbor: &Harbor, site: &Site, wanted: Wanted) -> Result<Foreseen, WorkError> {
    let mut course = look_first(harbor, site, wanted).await?;
    let mut foreseen = Foreseen::default();
    if let Stage::ToOrder(order) = &course.stage {
        let (wish, proof) = (&order.wish, order.wish.proof);
        let mut covered = identifiers(&order.names, &wish.wildcards);
        let mut forbidden = vec![];
        if let Some(ca) = harbor.settings.ca_named(wish.ca.as_deref()) {
            let about = (proof, &covered[..]);
            match foresee_forbidden(ca, &harbor.layout, &harbor.settings, &order.zones, about).await {
                Ok(known) => forbidden = known,
                Err(reason) => foreseen.ca_silent = Some(reason),
            }
        }
        covered.retain(|one| forbidden.iter().all(|(identifier, _)| identifier != one));
        let left = |identifier: &Identifier| covered.contains(identifier);
        let names: Vec<Host> =
            order.names.iter().filter(|host| left(&Identifier::from((*host).clone()))).cloned().collect();
        let wildcards: Vec<Hostname> =
            wish.wildcards.iter().filter(|one| left(&Identifier::below(one))).cloned().collect();
        let rest = order.rest(&names, &wildcards);
        course.left_out.extend(forbidden.clone());
        let nothing = names.is_empty() && wildcards.is_empty();
        match rest {
            _ if nothing => foreseen.refused = Some(NotIssued::names(forbidden)),
            Rest::AsGood => foreseen.in_place = order.present.clone(),
            Rest::CoversLess => foreseen.refused = Some(NotIssued::names(forbidden)),
            Rest::Order => {
                foreseen.covered = covered.into_iter().map(|one| (one.clone(), proof.kind_for(&one))).collect()
            }
        }
    }
    foreseen.left_out = course.left_out;
    match course.stage {
        Stage::InPlace { certificate, .. } => foreseen.in_place = Some(*certificate),
        Stage::Ended(SecureOutcome::Refused { why, .. }) => foreseen.refused = Some(why),
        _ => {}
    }
    Ok(foreseen)
}

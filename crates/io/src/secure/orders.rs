//! One site's order: which CA, which key, what it takes the place of; and once more without what the CA cannot validate.

use std::cell::OnceCell;
use std::collections::BTreeMap;
use std::net::SocketAddr;

use brightharbor_core::acme::{Identifier, Problem, Refusal};
use brightharbor_core::certificate::securing::{
    Aside, Course, Issued, NotIssued, Ordered, Refused, Rest, Stage, ToOrder, Unmet, rest_of, steps_in, takes_any_kind,
};
use brightharbor_core::certificate::{CertificateSource, CertificateWish, read_chain, renewal_id};
use brightharbor_core::name::Host;
use brightharbor_core::site::Site;
use zeroize::Zeroizing;

use super::WorkDoor;
use super::verify::web_addresses;
use super::zone_proofs::ZoneProofs;
use crate::acme::{OrderError, OrderPlan, Responder, Session, SessionError, forget_order, order};
use crate::clock;
use crate::harbor::Harbor;
use crate::install::{make_private_folder, write_atomically};
use crate::probe::staple_of_new;
use crate::trust::{self, judge_pem};

/// Names that a CA cannot validate are left out so often, and the rest is ordered once more.
const MOST_ORDERS: usize = 3;

/// The CAs of the settings, each opened when it is first needed.
pub(super) struct Sessions {
    by_name: BTreeMap<Option<String>, OnceCell<Session>>,
    /// Zones are changed by one order at a time: the harbor's lock is held meanwhile.
    pub(super) zones: tokio::sync::Mutex<()>,
    /// Where proofs over TLS are shown.
    responder: Option<Responder>,
}

impl Sessions {
    pub(super) fn new(harbor: &Harbor) -> Self {
        let names = harbor.settings.cas.keys().cloned().map(Some).chain([None]);
        let by_name = names.map(|name| (name, OnceCell::new())).collect();
        let responder = harbor.settings.web.tls_alpn_listen.map(Responder::new);
        Self { by_name, zones: tokio::sync::Mutex::default(), responder }
    }

    pub(super) fn get(&self, harbor: &Harbor, name: Option<&str>) -> Result<&Session, SessionError> {
        let name = name.filter(|name| *name != "default");
        let unknown = || SessionError::Unknown(name.unwrap_or_default().to_string());
        let cell = self.by_name.get(&name.map(String::from)).ok_or_else(unknown)?;
        if let Some(session) = cell.get() {
            return Ok(session);
        }
        let ca = harbor.settings.ca_named(name).ok_or(SessionError::NoCa)?;
        let session = Session::open(ca, &harbor.layout)?;
        Ok(cell.get_or_init(|| session))
    }

    /// The order of a site at a CA is done with.
    pub(super) fn forget(&self, ca: &Option<String>, site: &Site) {
        if let Some(session) = self.by_name.get(ca).and_then(OnceCell::get) {
            forget_order(session, site.main());
        }
    }
}

/// Orders, if there is something to order. Gives what is to be remembered when nothing came of it.
pub(super) async fn order_one(
    door: &WorkDoor<'_>,
    harbor: &Harbor,
    sessions: &Sessions,
    course: &mut Course,
) -> Option<Refused> {
    let Stage::ToOrder(to_order) = &course.stage else { return None };
    let result = order_for(door, harbor, sessions, &course.site, to_order).await;
    course.ordered(result.map_err(|error| not_issued(&error)))
}

/// At the CA that the site wishes for; or, where that one has been silent for long, at one that the settings name for then.
async fn order_for(
    door: &WorkDoor<'_>,
    harbor: &Harbor,
    sessions: &Sessions,
    site: &Site,
    wanted: &ToOrder,
) -> Result<Ordered, OrderError> {
    let wish = &wanted.wish;
    let mut tried = order_at(door, harbor, sessions, site, wanted, wish).await;
    let mut rest = (**wish).clone();
    while let Some(unmet) = tried.as_ref().err().and_then(|error| error.unmet(&rest)) {
        if !takes_any_kind(wanted.present.as_ref(), clock::now()) {
            break;
        }
        rest = rest_of(&rest, unmet);
        tried = order_at(door, harbor, sessions, site, wanted, &rest).await;
    }
    let Err(OrderError::Refused(Refusal::Silent { during, mut what, not_before })) = tried else { return tried };
    let since = sessions.get(harbor, wish.ca.as_deref())?.silent_since();
    let fallback = harbor.settings.ca_named(wish.ca.as_deref()).map(|ca| ca.fallback.clone()).unwrap_or_default();
    for name in fallback.into_iter().filter(|name| name != wish.ca_word()) {
        if !since.is_some_and(|since| steps_in(since, wanted.present.as_ref(), clock::now())) {
            break;
        }
        let ca = Some(name.clone()).filter(|name| name != "default");
        // A profile is the other CA's own word.
        let theirs = CertificateWish { ca, profile: None, ..(**wish).clone() };
        match order_at(door, harbor, sessions, site, wanted, &theirs).await {
            Ok(ordered) => return Ok(ordered),
            Err(error) => what.push_str(&format!("; `{name}`, asked in its place: {error}")),
        }
    }
    Err(OrderError::Refused(Refusal::Silent { during, what, not_before }))
}

async fn order_at(
    door: &WorkDoor<'_>,
    harbor: &Harbor,
    sessions: &Sessions,
    site: &Site,
    wanted: &ToOrder,
    wish: &CertificateWish,
) -> Result<Ordered, OrderError> {
    let session = sessions.get(harbor, wish.ca.as_deref())?;
    // One that steps in gets all the names or none.
    let is_fallback = wish.ca != wanted.wish.ca;
    let records = ZoneProofs { door, harbor, site, lock: &sessions.zones };
    let port = harbor.settings.internet.http_port();
    let web: Vec<SocketAddr> =
        web_addresses(harbor).into_iter().map(|address| SocketAddr::new(address, port)).collect();
    let present = wanted.present.as_ref();
    let of_this_ca = present.filter(|one| one.source == CertificateSource::Ca && one.details.ca == wish.ca);
    let replaces = of_this_ca.and_then(|certificate| {
        let pem = std::fs::read(certificate.files.chain()).ok()?;
        renewal_id(&read_chain(&pem).ok()?.first()?.der)
    });
    let kept_key = present.filter(|_| wish.keep_key).map(|certificate| certificate.files.key());
    let kept_key = kept_key.and_then(|path| std::fs::read_to_string(path).ok()).map(Zeroizing::new);
    let (mut names, mut wildcards, mut left) = (wanted.names.clone(), wish.wildcards.clone(), Vec::new());
    for _ in 0..MOST_ORDERS {
        let plan = OrderPlan {
            site: site.main(),
            names: &names,
            wildcards: &wildcards,
            wish,
            key_pem: kept_key.clone(),
            replaces: replaces.clone(),
            layout: &harbor.layout,
            web: &web,
            settings: &harbor.settings,
            responder: sessions.responder.as_ref(),
            zones: &wanted.zones,
        };
        match order(session, &plan, &records).await {
            Err(OrderError::Refused(Refusal::Names(refused))) => {
                let before = names.len() + wildcards.len();
                let is_refused = |identifier: &Identifier| refused.iter().any(|(bad, _)| bad == identifier);
                wildcards.retain(|parent| !is_refused(&Identifier::below(parent)));
                names.retain(|name| !is_refused(&Identifier::from(name.clone())));
                let nothing_left = names.is_empty() || names.len() + wildcards.len() == before;
                left.extend(refused);
                if nothing_left || is_fallback {
                    return Err(OrderError::Refused(Refusal::Names(left)));
                }
                match wanted.rest(&names, &wildcards) {
                    Rest::Order => {}
                    Rest::AsGood => {
                        let (ca, profile, refused) = (wish.ca.clone(), wish.profile.clone(), told(left));
                        let (issued, stapled, aside) = (None, wish.stapled, None);
                        return Ok(Ordered { issued, names, wildcards, ca, profile, stapled, refused, aside });
                    }
                    Rest::CoversLess => return Err(OrderError::Refused(Refusal::Names(left))),
                }
            }
            Err(error) => return Err(error),
            Ok(mut issued) => {
                // The order is kept until it is in place, so that the next run goes on from here.
                issued.staple = staple_of_new(&issued.chain_pem, harbor).await.map_err(OrderError::NoStaple)?;
                let aside = laid_aside(harbor, site, wanted, &issued, &names)?;
                let (ca, profile, refused) = (wish.ca.clone(), wish.profile.clone(), told(left));
                let (issued, stapled) = (Some(issued), wish.stapled);
                return Ok(Ordered { issued, names, wildcards, ca, profile, stapled, refused, aside });
            }
        }
    }
    Err(OrderError::StillAtWork { not_before: None })
}

/// What visitors would trust less than what is in place is kept where nobody serves it from. Where the roots cannot be read,
/// nobody can tell.
fn laid_aside(
    harbor: &Harbor,
    site: &Site,
    wanted: &ToOrder,
    issued: &Issued,
    names: &[Host],
) -> Result<Option<Aside>, OrderError> {
    let (Ok(roots), Some(name)) = (trust::roots(&harbor.settings.internet.trust_roots), names.first()) else {
        return Ok(None);
    };
    let judged = judge_pem(&issued.chain_pem, name, &roots, clock::now());
    let Some(distrust) = judged.as_ref().err().filter(|_| wanted.lays_aside(&judged)) else { return Ok(None) };
    let folder = harbor.layout.certificates().join(site.main().as_str()).join("aside");
    make_private_folder(&folder)?;
    write_atomically(&folder.join("key.pem"), issued.key_pem.as_bytes(), 0o600)?;
    write_atomically(&folder.join("chain.pem"), issued.chain_pem.as_bytes(), 0o600)?;
    Ok(Some(Aside { distrust: distrust.clone(), folder }))
}

fn told(refused: Vec<(Identifier, Problem)>) -> Vec<(Identifier, String)> {
    refused.into_iter().map(|(identifier, problem)| (identifier, problem.detail)).collect()
}

fn not_issued(error: &OrderError) -> NotIssued {
    NotIssued {
        code: error.code(),
        reason: error.to_string(),
        not_before: match error {
            OrderError::Refused(refusal) => Refusal::not_before(refusal),
            OrderError::StillAtWork { not_before } => *not_before,
            _ => None,
        },
        busy: matches!(error, OrderError::Busy),
        names: match error {
            OrderError::Refused(Refusal::Names(names)) => told(names.clone()),
            _ => vec![],
        },
    }
}

impl OrderError {
    /// What of the wish it is about, if it is the wish that cannot be met.
    fn unmet(&self, wish: &CertificateWish) -> Option<Unmet> {
        match self {
            OrderError::Refused(Refusal::Profile { .. }) if wish.profile.is_some() => Some(Unmet::Profile),
            OrderError::NoStaple(_) if wish.stapled => Some(Unmet::Staple),
            // CAs that do not know the demand refuse the request that it stands in (RFC 8555 section 7.4).
            OrderError::Refused(Refusal::Problem { problem, .. }) if wish.stapled && problem.word() == "badCSR" => {
                Some(Unmet::Staple)
            }
            _ => None,
        }
    }

    /// The word that programs know it by.
    pub fn code(&self) -> &'static str {
        match self {
            OrderError::Session(SessionError::NoCa) => "no-ca",
            OrderError::Session(SessionError::Unknown(_)) => "unknown-ca",
            OrderError::Session(SessionError::KeyChange) => "key-change",
            OrderError::Session(SessionError::Trust(_)) => "trust-roots",
            OrderError::Session(SessionError::External(_)) | OrderError::Refused(Refusal::ExternalAccount) => {
                "external-account"
            }
            OrderError::Refused(Refusal::Terms { .. }) => "terms",
            OrderError::Refused(Refusal::Names(names)) if names.iter().any(|(_, why)| why.word() == "connection") => {
                "not-reached"
            }
            OrderError::Refused(Refusal::Names(_)) => "not-validated",
            OrderError::Refused(Refusal::Profile { .. }) => "profile-not-offered",
            OrderError::Refused(Refusal::Silent { .. }) => "ca-silent",
            OrderError::Refused(_) => "ca-refuses",
            OrderError::Busy => "busy",
            OrderError::StillAtWork { .. } => "ca-at-work",
            OrderError::NoStaple(_) => "no-staple",
            OrderError::Session(_) | OrderError::File(_) | OrderError::Key(_) => "ca-files",
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_that_the_ca_cannot_connect_to_is_told_from_one_that_it_sees_something_else_at() {
        let refused = |kinds: &[&str]| {
            let problem =
                |kind: &&str| Problem { kind: format!("urn:ietf:params:acme:error:{kind}"), ..Problem::default() };
            let name = Identifier::from(Host::parse("gullrock.example").unwrap());
            let names = kinds.iter().map(|kind| (name.clone(), problem(kind))).collect();
            OrderError::Refused(Refusal::Names(names)).code()
        };
        assert_eq!(refused(&["connection"]), "not-reached");
        assert_eq!(refused(&["unauthorized", "connection"]), "not-reached");
        assert_eq!(refused(&["unauthorized", "dns"]), "not-validated");
        assert_eq!(OrderError::StillAtWork { not_before: None }.code(), "ca-at-work");
    }
}

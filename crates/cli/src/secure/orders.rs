//! One site's order: which CA, which key, what it takes the place of; and once more without what the CA cannot validate.

use std::cell::OnceCell;
use std::collections::BTreeMap;
use std::net::{IpAddr, SocketAddr};

use brightharbor_core::acme::{Identifier, Refusal};
use brightharbor_core::certificate::{Certificate, CertificateSource, CertificateWish};
use brightharbor_core::certificate::{read_chain, renewal_id};
use brightharbor_core::delegation::Cuts;
use brightharbor_core::name::Hostname;
use brightharbor_core::site::Site;
use brightharbor_io::acme::{Issued, OrderError, OrderPlan, Responder, Session, SessionError, order};
use brightharbor_io::harbor::Harbor;
use zeroize::Zeroizing;

use super::zone_proofs::ZoneProofs;
use crate::run::Context;

/// What came of an order.
pub struct Took {
    pub issued: Issued,
    pub names: Vec<Hostname>,
    pub wildcards: Vec<Hostname>,
    /// What the CA could not validate, or what we saw that it could not.
    pub refused: Vec<(Identifier, String)>,
}

/// The CAs of the settings, each opened when it is first needed.
pub struct Sessions {
    by_name: BTreeMap<Option<String>, OnceCell<Session>>,
    /// Zones are changed by one order at a time: the harbor's lock is held meanwhile.
    pub(super) zones: tokio::sync::Mutex<()>,
    /// Where proofs over TLS are shown.
    responder: Option<Responder>,
}

impl Sessions {
    pub fn new(harbor: &Harbor) -> Self {
        let names = harbor.settings.cas.keys().cloned().map(Some).chain([None]);
        let by_name = names.map(|name| (name, OnceCell::new())).collect();
        let responder = harbor.settings.web.tls_alpn_listen.map(Responder::new);
        Self { by_name, zones: tokio::sync::Mutex::default(), responder }
    }

    pub fn get(&self, harbor: &Harbor, name: Option<&str>) -> Result<&Session, SessionError> {
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

    /// The order of a site is done with.
    pub fn forget(&self, site: &Site) {
        if let Some(session) = self.by_name.get(&site.rules.certificate.ca).and_then(OnceCell::get) {
            brightharbor_io::acme::forget_order(session, site.main());
        }
    }
}

/// Where the web server of this host answers for sites.
pub fn web_addresses(harbor: &Harbor) -> Vec<IpAddr> {
    let settings = &harbor.settings;
    if settings.web.listen.is_empty() { settings.host.addresses.clone() } else { settings.web.listen.clone() }
}

/// What is to be ordered.
pub struct ToOrder<'a> {
    pub names: &'a [Hostname],
    /// The certificate that there is.
    pub present: Option<&'a Certificate>,
    pub wish: &'a CertificateWish,
    /// The servers of zones that were seen.
    pub zones: &'a Cuts,
}

/// Orders for all names; what cannot be validated is left out and the rest is ordered once more.
pub async fn order_for(
    context: &Context,
    harbor: &Harbor,
    sessions: &Sessions,
    site: &Site,
    wanted: &ToOrder<'_>,
) -> Result<Took, OrderError> {
    let wish = wanted.wish;
    let session = sessions.get(harbor, wish.ca.as_deref())?;
    let records = ZoneProofs { context, harbor, site, lock: &sessions.zones };
    let web: Vec<SocketAddr> = web_addresses(harbor)
        .into_iter()
        .map(|address| SocketAddr::new(address, harbor.settings.internet.http_port()))
        .collect();
    let of_this_ca = wanted
        .present
        .filter(|certificate| certificate.source == CertificateSource::Ca && certificate.details.ca == wish.ca);
    let replaces = of_this_ca.and_then(|certificate| {
        let pem = std::fs::read(certificate.files.chain()).ok()?;
        renewal_id(&read_chain(&pem).ok()?.first()?.der)
    });
    let kept_key = wanted.present.filter(|_| wish.keep_key).map(|certificate| certificate.files.key());
    let kept_key = kept_key.and_then(|path| std::fs::read_to_string(path).ok()).map(Zeroizing::new);
    let (mut names, mut wildcards, mut left) = (wanted.names.to_vec(), wish.wildcards.clone(), Vec::new());
    for _ in 0..3 {
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
            zones: wanted.zones,
        };
        match order(session, &plan, &records).await {
            Err(OrderError::Refused(Refusal::Names(refused))) => {
                let before = names.len() + wildcards.len();
                let is_refused = |identifier: &Identifier| refused.iter().any(|(bad, _)| bad == identifier);
                wildcards.retain(|parent| !is_refused(&Identifier::below(parent)));
                names.retain(|name| !is_refused(&Identifier::from(name.clone())));
                let nothing_left = names.is_empty() || names.len() + wildcards.len() == before;
                left.extend(refused);
                if nothing_left {
                    return Err(OrderError::Refused(Refusal::Names(left)));
                }
            }
            Err(error) => return Err(error),
            Ok(issued) => {
                let refused = left.into_iter().map(|(identifier, problem)| (identifier, problem.detail)).collect();
                return Ok(Took { issued, names, wildcards, refused });
            }
        }
    }
    Err(OrderError::StillAtWork { not_before: None })
}

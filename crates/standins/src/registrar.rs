//! The registrar: who the registry delegates to, changed by a call or over its small web page.

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex};

use bytes::Bytes;
use http_body_util::{BodyExt, Full, Limited};
use hyper::body::Incoming;
use hyper::{Method, Request, Response, StatusCode};
use tokio::net::TcpListener;

use crate::dns::server::Zones;
use crate::dns::zone_data::ZoneData;
use crate::web::serve_plain;

/// A registrar account. Cloned handles share it.
#[derive(Clone)]
pub struct Registrar {
    shared: Arc<Shared>,
}

struct Shared {
    /// The registry's zone without delegations, and the servers that hold it.
    base: String,
    zones: Zones,
    delegations: Mutex<BTreeMap<String, Vec<String>>>,
    /// Records of the registry's own.
    records: Mutex<Vec<String>>,
    /// Addresses of nameservers inside the top-level domain, handed out as glue.
    hosts: BTreeMap<String, String>,
}

impl Registrar {
    pub(crate) fn new(base: String, zones: Zones, hosts: BTreeMap<String, String>) -> Self {
        let shared = Shared { base, zones, delegations: Mutex::default(), records: Mutex::default(), hosts };
        Self { shared: Arc::new(shared) }
    }

    /// Sets the nameservers of a domain, without final dots; the registry publishes at once.
    pub fn set_nameservers(&self, domain: &str, nameservers: &[&str]) -> Result<(), String> {
        let sound =
            |name: &str| !name.is_empty() && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '-' || c == '.');
        if !sound(domain) || nameservers.is_empty() || !nameservers.iter().all(|name| sound(name)) {
            return Err("give a domain and at least one nameserver".into());
        }
        let names = nameservers.iter().map(|name| name.trim_end_matches('.').to_string()).collect();
        let mut delegations = self.shared.delegations.lock().map_err(|_| "the registrar is out of order")?;
        delegations.insert(domain.trim_end_matches('.').to_string(), names);
        self.publish(&delegations)
    }

    /// Adds a record of the registry's own, one line in master file format.
    pub fn add_registry_record(&self, line: &str) -> Result<(), String> {
        self.shared.records.lock().map_err(|_| "the registry is out of order")?.push(format!("{line}\n"));
        self.publish(&*self.shared.delegations.lock().map_err(|_| "the registrar is out of order")?)
    }

    /// Takes out a record of the registry's own again, by the line that added it.
    pub fn remove_registry_record(&self, line: &str) -> Result<(), String> {
        let added = format!("{line}\n");
        self.shared.records.lock().map_err(|_| "the registry is out of order")?.retain(|known| *known != added);
        self.publish(&*self.shared.delegations.lock().map_err(|_| "the registrar is out of order")?)
    }

    fn publish(&self, delegations: &BTreeMap<String, Vec<String>>) -> Result<(), String> {
        let zone = ZoneData::read("example.", &self.zone_text(delegations)?)?;
        *self.shared.zones.write().map_err(|_| "the registry is out of order")? = vec![zone];
        Ok(())
    }

    fn zone_text(&self, delegations: &BTreeMap<String, Vec<String>>) -> Result<String, String> {
        let mut text = self.shared.base.clone();
        text.extend(self.shared.records.lock().map_err(|_| "the registry is out of order")?.iter().map(String::as_str));
        let mut used = std::collections::BTreeSet::new();
        for (domain, names) in delegations {
            for name in names {
                text.push_str(&format!("{domain}. 2 IN NS {name}.\n"));
                used.insert(name);
            }
        }
        // Glue is published for names that lie below a delegation of this registry.
        for name in used {
            if let Some(address) = self.shared.hosts.get(name) {
                let kind = if address.contains(':') { "AAAA" } else { "A" };
                text.push_str(&format!("{name}. 3600 IN {kind} {address}\n"));
            }
        }
        Ok(text)
    }

    fn page(&self) -> String {
        let mut text = String::from("Domains and their nameservers. To change: POST /DOMAIN with the names as body.\n");
        if let Ok(delegations) = self.shared.delegations.lock() {
            for (domain, names) in delegations.iter() {
                text.push_str(&format!("{domain}: {}\n", names.join(" ")));
            }
        }
        text
    }

    async fn answer(self, request: Request<Incoming>) -> Response<Full<Bytes>> {
        let domain = request.uri().path().trim_matches('/').to_string();
        let (status, text) = if request.method() == Method::POST {
            let body = Limited::new(request.into_body(), 4096).collect().await;
            let body = body.map(|body| String::from_utf8_lossy(&body.to_bytes()).into_owned()).unwrap_or_default();
            let names: Vec<&str> = body.split_whitespace().collect();
            match self.set_nameservers(&domain, &names) {
                Ok(()) => (StatusCode::OK, format!("{domain}: {}\n", names.join(" "))),
                Err(reason) => (StatusCode::BAD_REQUEST, format!("{reason}\n")),
            }
        } else {
            (StatusCode::OK, self.page())
        };
        let mut response = Response::new(Full::new(Bytes::from(text)));
        *response.status_mut() = status;
        response
    }

    pub(crate) async fn serve(self, listener: TcpListener) {
        serve_plain(listener, move |request, _: SocketAddr| {
            let registrar = self.clone();
            async move { registrar.answer(request).await }
        })
        .await;
    }
}

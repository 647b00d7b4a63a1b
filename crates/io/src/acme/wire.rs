//! The connection to the CA: one kept open for all requests of an order, every answer bounded.

use std::sync::Arc;
use std::time::Duration;

use brightharbor_core::acme::{Directory, Payload, Request, Response};
use brightharbor_core::harbor::Ca;
use rustls::ClientConfig;
use serde_json::Value;
use tokio::time::timeout;
use url::Url;

use super::account_key::AccountKey;
use super::external_account::ExternalKey;
use crate::http::{Answer, Connection, HttpError};
use crate::trust;

/// A certificate chain is a few kilobytes; nothing a CA says is longer than this.
const MOST_BYTES: usize = 1024 * 1024;

/// For one request with all that belongs to it: looking up the host, its addresses in turn, the answer to its last byte.
const CALL_TIME: Duration = Duration::from_secs(20);

pub(super) struct Wire {
    tls: Arc<ClientConfig>,
    open: Option<(String, Connection)>,
}

impl Wire {
    pub fn new(tls: Arc<ClientConfig>) -> Self {
        Self { tls, open: None }
    }

    /// Sends one request, signed where it has to be.
    pub async fn send(
        &mut self,
        key: &AccountKey,
        external: Option<&ExternalKey>,
        request: &Request,
    ) -> Result<Response, String> {
        match &request.payload {
            Payload::Get => self.get(&request.url).await,
            Payload::Head => self.answer(&request.url, "HEAD", vec![]).await,
            Payload::Signed { json, signer, nonce, binding } => {
                let json = match (binding, external) {
                    (Some(_), Some(external)) => bound(json, &external.bind(&request.url, &key.jwk()))?,
                    _ => json.clone(),
                };
                let body = key.sign(&request.url, nonce, signer, &json)?;
                self.answer(&request.url, "POST", body).await
            }
        }
    }

    /// What is there for everybody.
    pub async fn get(&mut self, url: &str) -> Result<Response, String> {
        self.answer(url, "GET", vec![]).await
    }

    async fn answer(&mut self, url: &str, method: &str, body: Vec<u8>) -> Result<Response, String> {
        let url: Url = url.parse().map_err(|error| format!("`{url}` is not a URL: {error}"))?;
        if url.scheme() != "https" {
            return Err(format!("`{url}` is not https (RFC 8555 section 6.1)"));
        }
        let exchange = timeout(CALL_TIME, self.exchange(&url, method, body));
        let answer = exchange
            .await
            .unwrap_or(Err(HttpError::Late(CALL_TIME.as_secs())))
            .map_err(|error| format!("{} {error}", authority(&url)))?;
        Ok(Response {
            status: answer.status,
            location: answer.header("location").and_then(|text| url.join(&text).ok()).map(String::from),
            nonce: answer.header("replay-nonce"),
            retry_after: answer.header("retry-after"),
            alternates: linked(&answer, &url, "alternate"),
            next: linked(&answer, &url, "next").pop(),
            body: answer.body,
        })
    }

    async fn exchange(&mut self, url: &Url, method: &str, body: Vec<u8>) -> Result<Answer, HttpError> {
        let named = authority(url);
        let mut connection = match self.open.take() {
            Some((to, connection)) if to == named && connection.is_open() => connection,
            _ => self.connect(url).await?,
        };
        let path = match url.query() {
            Some(query) => format!("{}?{query}", url.path()),
            None => url.path().to_string(),
        };
        let headers: &[(&str, &str)] =
            if method == "POST" { &[("content-type", "application/jose+json")] } else { &[] };
        let answer = connection.send(method, &path, headers, body, MOST_BYTES).await?;
        if connection.is_open() {
            self.open = Some((named, connection));
        }
        Ok(answer)
    }

    async fn connect(&self, url: &Url) -> Result<Connection, HttpError> {
        let host = url.host_str().unwrap_or_default();
        let port = url.port_or_known_default().unwrap_or(443);
        let addresses = tokio::net::lookup_host((host.trim_matches(['[', ']']), port))
            .await
            .map_err(|error| HttpError::Connect(error.to_string()))?;
        let mut last = HttpError::Connect("its name has no address".into());
        for address in addresses.take(8) {
            match Connection::open(address, host, &authority(url), Some(Arc::clone(&self.tls))).await {
                Ok(connection) => return Ok(connection),
                Err(error) => last = error,
            }
        }
        Err(last)
    }
}

/// The directory of a CA, without an account there.
pub(super) async fn fetch_directory(ca: &Ca, url: &str) -> Result<Directory, String> {
    let roots = trust::roots(ca.trust_root.as_slice()).map_err(|error| error.to_string())?;
    read_directory(&Wire::new(trust::client(roots)).get(url).await?)
}

pub(super) fn read_directory(answer: &Response) -> Result<Directory, String> {
    if !answer.is_success() {
        return Err(format!("status {}", answer.status));
    }
    serde_json::from_slice(&answer.body).map_err(|error| format!("its directory cannot be read: {error}"))
}

/// The request for a new account, with the proof that a customer's account is ours.
fn bound(json: &str, binding: &Value) -> Result<String, String> {
    let mut payload: Value = serde_json::from_str(json).map_err(|error| error.to_string())?;
    payload["externalAccountBinding"] = binding.clone();
    Ok(payload.to_string())
}

/// The targets of Link fields with a relation (RFC 8288 section 3).
fn linked(answer: &Answer, base: &Url, relation: &str) -> Vec<String> {
    let links = answer.headers("link").into_iter().flat_map(|text| {
        let links: Vec<String> = text.split(',').map(str::to_string).collect();
        links
    });
    links
        .filter_map(|link| {
            let (target, parameters) = link.trim().strip_prefix('<')?.split_once('>')?;
            let is_related = |part: &str| {
                let (name, value) = part.split_once('=').unwrap_or_default();
                name.trim().eq_ignore_ascii_case("rel") && value.trim().trim_matches('"') == relation
            };
            parameters.split(';').any(is_related).then(|| base.join(target).ok()).flatten()
        })
        .map(String::from)
        .collect()
}

fn authority(url: &Url) -> String {
    let host = url.host_str().unwrap_or_default();
    match url.port() {
        Some(port) => format!("{host}:{port}"),
        None => host.to_string(),
    }
}

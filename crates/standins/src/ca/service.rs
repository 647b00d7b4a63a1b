//! The CA's resources over https: directory, nonces, accounts, orders, authorizations, challenges, certificates.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};

use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use bytes::Bytes;
use http_body_util::{BodyExt, Full, Limited};
use hyper::body::Incoming;
use hyper::header::{HeaderName, HeaderValue};
use hyper::{Method, Request, Response, StatusCode};
use serde_json::{Value, json};
use tokio::net::TcpListener;

use super::authority::Authority;
use super::jws::{Jwk, Signed, decode};
use super::objects::{Authorization, Books, Order, Status};
use super::{after_issue, dns01, http01};
use crate::dns::resolver::Resolver;
use crate::web::serve_tls;

/// What it offers: name, description, days. The first is what is not asked for by name.
const PROFILES: [(&str, &str, u64); 2] = [("months", "for three months", 90), ("week", "for six days", 6)];

#[derive(Clone)]
pub(crate) struct CaService {
    shared: Arc<Shared>,
}

struct Shared {
    base: String,
    http_port: u16,
    authority: Authority,
    resolver: Arc<Resolver>,
    books: Mutex<Books>,
}

/// An answer in the making.
pub(super) struct Answer {
    status: u16,
    body: Vec<u8>,
    kind: &'static str,
    location: Option<String>,
}

/// A refusal: status, type of RFC 8555 section 6.7, detail.
pub(super) struct Refusal(pub u16, pub &'static str, pub String);

pub(super) type Result<T> = std::result::Result<T, Refusal>;

pub(super) fn malformed(detail: impl ToString) -> Refusal {
    Refusal(400, "malformed", detail.to_string())
}

impl Answer {
    pub(super) fn json(status: u16, value: &Value) -> Self {
        Self { status, body: value.to_string().into_bytes(), kind: "application/json", location: None }
    }

    pub(super) fn at(mut self, location: String) -> Self {
        self.location = Some(location);
        self
    }
}

/// As it stands in orders and authorizations: a name, or an address (RFC 8738 section 3).
fn identifier(name: &str) -> Value {
    let kind = if name.parse::<std::net::IpAddr>().is_ok() { "ip" } else { "dns" };
    json!({ "type": kind, "value": name })
}

fn random() -> String {
    let mut bytes = [0; 16];
    ::aws_lc_rs::rand::fill(&mut bytes).expect("the system gives random bytes");
    URL_SAFE_NO_PAD.encode(bytes)
}

/// The answer that carries it never arrives: the connection ends.
#[derive(Clone)]
pub(crate) struct Lost;

impl CaService {
    pub fn new(base: String, http_port: u16, authority: Authority, resolver: Arc<Resolver>) -> Self {
        let shared = Shared { base, http_port, authority, resolver, books: Mutex::default() };
        Self { shared: Arc::new(shared) }
    }

    pub async fn serve(self, listener: TcpListener) {
        let https = self.shared.authority.https();
        serve_tls(
            listener,
            move |_: Option<&str>| Arc::clone(&https),
            move |request, _| {
                let service = self.clone();
                async move { service.respond(request).await }
            },
        )
        .await;
    }

    /// Requests so far, and how many of them came too early.
    pub fn requests(&self) -> (usize, usize) {
        let books = self.books();
        (books.requests, books.not_ready)
    }

    /// How many certificates are revoked.
    pub fn revoked(&self) -> usize {
        self.books().revoked.len()
    }

    /// Revokes everything that was issued, as after an incident of the CA's own.
    pub fn revoke_all(&self) {
        let mut books = self.books();
        let all: Vec<usize> = books.certificates.keys().copied().collect();
        books.revoked.extend(all);
    }

    /// Answers so many requests more, and then nothing but that it is out of order; `None` mends it.
    pub fn fail_after(&self, requests: Option<usize>) {
        let mut books = self.books();
        books.fails_from = requests.map(|more| books.requests + more);
    }

    /// Does what the request after so many more asks for, and loses the answer.
    pub fn lose_after(&self, requests: usize) {
        let mut books = self.books();
        books.loses = Some(books.requests + requests);
    }

    /// Answers every request that there were too many, with this in `Retry-After`; `None` ends it.
    pub fn limit(&self, retry_after: Option<&str>) {
        self.books().too_many = retry_after.map(String::from);
    }

    /// Offers no profiles from now on.
    pub fn withdraw_profiles(&self) {
        self.books().without_profiles = true;
    }

    /// Names this OCSP responder in certificates from now on. Gives the issuer and its key, PEM: others answer for it.
    pub fn appoint_responder(&self, url: &str) -> (String, String) {
        self.books().responder = Some(url.to_string());
        self.shared.authority.issuer()
    }

    /// How many orders were placed so far.
    pub fn orders(&self) -> usize {
        self.books().orders.len()
    }

    pub(super) fn account_url(&self, number: &str) -> String {
        format!("{}/account/{number}", self.shared.base)
    }

    pub(super) fn books(&self) -> std::sync::MutexGuard<'_, Books> {
        self.shared.books.lock().unwrap_or_else(|poisoned| poisoned.into_inner())
    }

    async fn respond(&self, request: Request<Incoming>) -> Response<Full<Bytes>> {
        let answer = match self.answer(request).await {
            Ok(answer) => answer,
            Err(Refusal(status, kind, detail)) => {
                let body = json!({ "type": format!("urn:ietf:params:acme:error:{kind}"), "detail": detail });
                Answer { kind: "application/problem+json", ..Answer::json(status, &body) }
            }
        };
        let nonce = random();
        let mut books = self.books();
        books.nonces.insert(nonce.clone());
        let is_lost = books.loses == Some(books.requests);
        books.requests += 1;
        let too_many = books.too_many.clone();
        drop(books);
        let mut response = Response::new(Full::new(Bytes::from(answer.body)));
        *response.status_mut() = StatusCode::from_u16(answer.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let mut header = |name: &'static str, value: &str| {
            if let Ok(value) = HeaderValue::from_str(value) {
                response.headers_mut().insert(HeaderName::from_static(name), value);
            }
        };
        header("replay-nonce", &nonce);
        header("content-type", answer.kind);
        header("cache-control", "no-store");
        if let Some(location) = &answer.location {
            header("location", location);
        }
        if let Some(retry_after) = &too_many {
            header("retry-after", retry_after);
        }
        if is_lost {
            response.extensions_mut().insert(Lost);
        }
        response
    }

    async fn answer(&self, request: Request<Incoming>) -> Result<Answer> {
        let path = request.uri().path().to_string();
        if self.books().too_many.is_some() {
            return Err(Refusal(429, "rateLimited", "too many requests of late".into()));
        }
        if self.books().is_failing() {
            return Err(Refusal(503, "serverInternal", "out of order".into()));
        }
        match (request.method(), path.as_str()) {
            (&Method::GET, "/directory") => return Ok(self.directory()),
            (&Method::GET, renewal) if renewal.starts_with("/renewal/") => {
                let found = after_issue::renewal(&self.books(), renewal.trim_start_matches("/renewal/"));
                let found = found.ok_or_else(|| Refusal(404, "malformed", "no such certificate".into()))?;
                return Ok(Answer::json(200, &found));
            }
            (&Method::HEAD, "/nonce") => {
                return Ok(Answer { status: 200, body: vec![], kind: "text/plain", location: None });
            }
            (&Method::POST, _) => {}
            _ => return Err(Refusal(405, "malformed", "only signed POST requests".into())),
        }
        let body = Limited::new(request.into_body(), 64 * 1024).collect().await.map_err(malformed)?.to_bytes();
        let signed = Signed::read(&body).map_err(malformed)?;
        if signed.header.url != format!("{}{path}", self.shared.base) {
            return Err(Refusal(401, "unauthorized", "the url in the header is another one".into()));
        }
        let nonce = signed.header.nonce.as_deref().unwrap_or_default();
        if !self.books().nonces.remove(nonce) {
            return Err(Refusal(400, "badNonce", "this nonce was not given out, or is used".into()));
        }
        if path == "/account" {
            return self.account(&signed);
        }
        let account = self.who(&signed)?;
        let mut parts = path.trim_start_matches('/').split('/');
        let (what, number) = (parts.next().unwrap_or_default(), parts.next().and_then(|n| n.parse::<usize>().ok()));
        let kind = parts.next().unwrap_or_default();
        match (what, number) {
            ("account", Some(number)) => self.change_account(account, number, &signed.payload),
            ("orders", Some(number)) => {
                if number != account {
                    return Err(Refusal(403, "unauthorized", "these are the orders of somebody else".into()));
                }
                let books = self.books();
                let own = (0..books.orders.len()).filter(|at| books.orders[*at].account == account);
                let urls: Vec<String> = own.map(|at| format!("{}/order/{at}", self.shared.base)).collect();
                Ok(Answer::json(200, &json!({ "orders": urls })))
            }
            ("key", None) => self.change_key(account, &signed),
            ("revoke", None) => self.revoke(&signed.payload),
            ("order", None) => self.new_order(account, &signed.payload),
            ("order", Some(number)) => self.order(account, number, 200),
            ("authorization", Some(number)) => self.authorization(account, number),
            ("challenge", Some(number)) => self.challenge(account, number, kind),
            ("finalize", Some(number)) => self.finalize(account, number, &signed.payload),
            ("certificate", Some(number)) => {
                let chain = self.books().certificates.get(&number).cloned().ok_or_else(|| malformed("no such"))?;
                let kind = "application/pem-certificate-chain";
                Ok(Answer { status: 200, body: chain.into_bytes(), kind, location: None })
            }
            _ => Err(Refusal(404, "malformed", "no such resource".into())),
        }
    }

    fn directory(&self) -> Answer {
        let base = &self.shared.base;
        let offered: BTreeMap<&str, &str> = match self.books().without_profiles {
            true => BTreeMap::new(),
            false => PROFILES.iter().map(|(name, what, _)| (*name, *what)).collect(),
        };
        Answer::json(
            200,
            &json!({
                "newNonce": format!("{base}/nonce"),
                "newAccount": format!("{base}/account"),
                "newOrder": format!("{base}/order"),
                "revokeCert": format!("{base}/revoke"),
                "keyChange": format!("{base}/key"),
                "renewalInfo": format!("{base}/renewal"),
                "meta": {
                    "termsOfService": format!("{base}/terms"),
                    "profiles": offered,
                },
            }),
        )
    }

    fn new_order(&self, account: usize, payload: &[u8]) -> Result<Answer> {
        let payload: Value = serde_json::from_slice(payload).map_err(malformed)?;
        let identifiers = payload["identifiers"].as_array().ok_or_else(|| malformed("no identifiers"))?;
        let named = |one: &Value| one["value"].as_str().filter(|name| identifier(name) == *one).map(String::from);
        let names: Vec<String> = identifiers.iter().filter_map(named).collect();
        if names.is_empty() || names.len() != identifiers.len() {
            return Err(malformed("identifiers that are neither names nor addresses, or say that they are the other"));
        }
        // What no public CA would sign is refused on purpose, so that a refusal can be seen.
        if let Some(name) = names.iter().find(|name| name.starts_with("refused.")) {
            return Err(Refusal(403, "rejectedIdentifier", format!("this CA does not issue for {name}")));
        }
        let profile = payload["profile"].as_str();
        let days = match profile {
            None => PROFILES[0].2,
            Some(wanted) => match PROFILES.iter().find(|(name, ..)| *name == wanted) {
                Some((.., days)) if !self.books().without_profiles => *days,
                _ => return Err(Refusal(400, "invalidProfile", format!("no profile {wanted}"))),
            },
        };
        let mut books = self.books();
        let first = books.authorizations.len();
        for name in &names {
            let (parent, token) = (name.strip_prefix("*."), random());
            let (name, wildcard) = (parent.unwrap_or(name).to_string(), parent.is_some());
            let status = Status::Pending;
            books.authorizations.push(Authorization { account, name, wildcard, token, status, error: None });
        }
        let authorizations = (first..first + names.len()).collect();
        books.orders.push(Order { account, names, authorizations, certificate: None, days });
        let number = books.orders.len() - 1;
        drop(books);
        self.order(account, number, 201)
    }

    fn order(&self, account: usize, number: usize, status: u16) -> Result<Answer> {
        let books = self.books();
        let order = books.orders.get(number).filter(|order| order.account == account);
        let order = order.ok_or_else(|| Refusal(404, "malformed", "no such order".into()))?;
        let value = self.order_value(&books, number, books.order_status(order));
        Ok(Answer::json(status, &value).at(format!("{}/order/{number}", self.shared.base)))
    }

    fn order_value(&self, books: &Books, number: usize, status: &str) -> Value {
        let (base, order) = (&self.shared.base, &books.orders[number]);
        let urls: Vec<String> = order.authorizations.iter().map(|n| format!("{base}/authorization/{n}")).collect();
        let identifiers: Vec<Value> = order.names.iter().map(|name| identifier(name)).collect();
        let mut value = json!({
            "status": status,
            "identifiers": identifiers,
            "authorizations": urls,
            "finalize": format!("{base}/finalize/{number}"),
        });
        if let Some(certificate) = order.certificate {
            value["certificate"] = json!(format!("{base}/certificate/{certificate}"));
        }
        value
    }

    fn challenge_value(&self, number: usize, authorization: &Authorization, kind: &str) -> Value {
        let mut value = json!({
            "type": kind,
            "url": format!("{}/challenge/{number}/{kind}", self.shared.base),
            "token": authorization.token,
            "status": authorization.status.word(),
        });
        if let Some(error) = &authorization.error {
            value["error"] = json!({ "type": "urn:ietf:params:acme:error:unauthorized", "detail": error });
        }
        value
    }

    fn authorization(&self, account: usize, number: usize) -> Result<Answer> {
        let mut books = self.books();
        if books.authorizations.get(number).is_some_and(|a| a.status == Status::Processing) {
            books.not_ready += 1;
        }
        let authorization = books.authorizations.get(number).filter(|a| a.account == account);
        let authorization = authorization.ok_or_else(|| Refusal(404, "malformed", "no such authorization".into()))?;
        // An authorization has no `processing` state of its own (section 7.1.6).
        let status = match authorization.status {
            Status::Processing => "pending",
            other => other.word(),
        };
        // A file at one web server says nothing about all names below it.
        let kinds: &[&str] = match authorization.name.parse::<std::net::IpAddr>() {
            _ if authorization.wildcard => &["dns-01"],
            Ok(_) => &["http-01"],
            Err(_) => &["http-01", "dns-01"],
        };
        let challenges: Vec<Value> =
            kinds.iter().map(|kind| self.challenge_value(number, authorization, kind)).collect();
        let mut value = json!({
            "status": status,
            "identifier": identifier(&authorization.name),
            "challenges": challenges,
        });
        if authorization.wildcard {
            value["wildcard"] = json!(true);
        }
        Ok(Answer::json(200, &value))
    }

    fn challenge(&self, account: usize, number: usize, kind: &str) -> Result<Answer> {
        let kind = match kind {
            "http-01" => "http-01",
            "dns-01" => "dns-01",
            _ => return Err(Refusal(404, "malformed", "no such challenge".into())),
        };
        let mut books = self.books();
        let thumbprint = books.key_of(account).map(Jwk::thumbprint).unwrap_or_default();
        let authorization = books.authorizations.get_mut(number).filter(|a| a.account == account);
        let authorization = authorization.ok_or_else(|| Refusal(404, "malformed", "no such challenge".into()))?;
        if authorization.status == Status::Pending {
            authorization.status = Status::Processing;
            let (name, token) = (authorization.name.clone(), authorization.token.clone());
            let service = self.clone();
            tokio::spawn(async move {
                let expected = format!("{token}.{thumbprint}");
                let shared = &service.shared;
                let result = match kind {
                    "dns-01" => dns01::validate(&shared.resolver, &name, &expected).await,
                    _ => http01::validate(&shared.resolver, shared.http_port, &name, &token, &expected).await,
                };
                let mut books = service.books();
                let authorization = &mut books.authorizations[number];
                authorization.status = if result.is_ok() { Status::Valid } else { Status::Invalid };
                authorization.error = result.err();
            });
        }
        let value = self.challenge_value(number, &books.authorizations[number], kind);
        Ok(Answer::json(200, &value))
    }

    fn revoke(&self, payload: &[u8]) -> Result<Answer> {
        let payload: Value = serde_json::from_slice(payload).map_err(malformed)?;
        let der = decode(payload["certificate"].as_str().unwrap_or_default()).map_err(malformed)?;
        after_issue::revoke(&mut self.books(), &der).map_err(|(kind, detail)| Refusal(400, kind, detail))?;
        Ok(Answer { status: 200, body: vec![], kind: "text/plain", location: None })
    }

    fn finalize(&self, account: usize, number: usize, payload: &[u8]) -> Result<Answer> {
        let payload: Value = serde_json::from_slice(payload).map_err(malformed)?;
        let request = payload["csr"].as_str().ok_or_else(|| malformed("no csr"))?;
        let request = decode(request).map_err(malformed)?;
        let mut books = self.books();
        let order = books.orders.get(number).filter(|order| order.account == account);
        let order = order.ok_or_else(|| Refusal(404, "malformed", "no such order".into()))?;
        if books.order_status(order) != "ready" {
            return Err(Refusal(403, "orderNotReady", format!("the order is {}", books.order_status(order))));
        }
        let chain = self.shared.authority.sign(&request, &order.names, order.days, books.responder.as_deref());
        let chain = chain.map_err(|why| Refusal(400, "badCSR", why))?;
        let certificate = books.certificates.len();
        books.certificates.insert(certificate, chain);
        // As public CAs do: the answer comes before the certificate, and the order is asked again.
        let answer = self.order_value(&books, number, "processing");
        books.orders[number].certificate = Some(certificate);
        Ok(Answer::json(200, &answer).at(format!("{}/order/{number}", self.shared.base)))
    }
}

//! A web server that serves the harbor's site model over http and https, and one that answers everything with one
//! page: the old host.

use std::collections::HashMap;
use std::future::Future;
use std::net::SocketAddr;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, RwLock};

use brightharbor_core::name::Host;
use brightharbor_core::render::{
    FINGERPRINT_PATH, PROOF_PATH, PlainPart, PlainSite, UNANSWERED, WORDS, is_hidden, is_script,
};
use brightharbor_core::site::is_at_or_below;
use bytes::Bytes;
use http_body_util::Full;
use hyper::body::Incoming;
use hyper::header::{CONTENT_TYPE, HOST, HeaderValue, LOCATION, STRICT_TRANSPORT_SECURITY};
use hyper::service::service_fn;
use hyper::{Method, Request, Response, StatusCode};
use hyper_util::rt::TokioIo;
use rustls::crypto::aws_lc_rs;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::server::{Acceptor, ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;
use rustls::version::TLS13;
use rustls::{ServerConfig, SupportedProtocolVersion};
use tokio::net::TcpListener;
use tokio_rustls::LazyConfigAcceptor;

use crate::passing::pass_on;

/// What is served now: exchanged whole on a reload.
#[derive(Debug, Default)]
struct Served {
    sites: HashMap<String, Arc<PlainSite>>,
    keys: HashMap<String, Arc<CertifiedKey>>,
}

/// The web server of the harbor.
#[derive(Clone, Debug)]
pub(crate) struct WebServer {
    folder: PathBuf,
    served: Arc<RwLock<Served>>,
}

impl WebServer {
    /// Serves the site files of `folder`, once told to reload.
    pub fn new(folder: &Path) -> Self {
        Self { folder: folder.to_path_buf(), served: Arc::default() }
    }

    /// `test` reads everything and changes nothing; `reload` takes it over.
    pub fn obey(&self, order: &str) -> Result<(), String> {
        let read = self.read()?;
        match order {
            "test" => Ok(()),
            "reload" => {
                *self.served.write().map_err(|_| "the web server is out of order")? = read;
                Ok(())
            }
            other => Err(format!("unknown order {other}")),
        }
    }

    fn read(&self) -> Result<Served, String> {
        let mut served = Served::default();
        let entries = std::fs::read_dir(&self.folder).map_err(|error| error.to_string())?;
        for entry in entries.flatten() {
            let path = entry.path();
            if path.extension().is_none_or(|ending| ending != "json") {
                continue;
            }
            let failed = |reason: String| format!("{}: {reason}", path.display());
            let text = std::fs::read_to_string(&path).map_err(|error| failed(error.to_string()))?;
            let site: PlainSite = serde_json::from_str(&text).map_err(|error| failed(error.to_string()))?;
            let key = match (&site.chain, &site.key) {
                (Some(chain), Some(key)) => Some(Arc::new(certified_key(chain, key).map_err(failed)?)),
                _ => None,
            };
            let site = Arc::new(site);
            for host in &site.hosts {
                served.sites.insert(host.name.as_str().to_string(), Arc::clone(&site));
                if let Some(key) = &key {
                    served.keys.insert(host.name.as_str().to_string(), Arc::clone(key));
                }
            }
        }
        Ok(served)
    }

    async fn answer(&self, request: Request<Incoming>, from: SocketAddr, secure: bool) -> Response<Full<Bytes>> {
        let asked = request.headers().get(HOST).and_then(|value| value.to_str().ok()).unwrap_or_default().to_string();
        // An IPv6 address stands in brackets, its own colons inside (RFC 3986 section 3.2.2).
        let name = match asked.split_once(']') {
            Some((address, _)) => format!("{address}]"),
            None => asked.split(':').next().unwrap_or_default().to_string(),
        };
        let name = name.to_ascii_lowercase();
        let site = self.served.read().ok().and_then(|served| served.sites.get(&name).cloned());
        let Some(site) = site else { return said(StatusCode::NOT_FOUND) };
        let mut response = match respond(&site, &name, &asked, &request, secure) {
            Reply::Own(response) => response,
            Reply::Of(Some(program)) => pass_on(request, program, from, secure).await,
            // PHP, and sockets: nothing here speaks to them.
            Reply::Of(None) => text(StatusCode::SERVICE_UNAVAILABLE, UNANSWERED),
        };
        let forced = site.hosts.iter().any(|host| host.name.as_str() == name && host.http_sent_to_https);
        let bound =
            site.hsts.filter(|_| secure && forced).map(|seconds| HeaderValue::from_str(&format!("max-age={seconds}")));
        if let Some(Ok(value)) = bound {
            response.headers_mut().insert(STRICT_TRANSPORT_SECURITY, value);
        }
        response
    }

    pub async fn serve_http(self, listener: TcpListener) {
        serve_plain(listener, move |request, from| {
            let server = self.clone();
            async move { server.answer(request, from, false).await }
        })
        .await;
    }

    pub async fn serve_https(self, listener: TcpListener) {
        let address = listener.local_addr().map(|address| Host::from(address.ip()).to_string());
        let resolver = Arc::new(BySni { served: Arc::clone(&self.served), address: address.unwrap_or_default() });
        let speaking = |versions: &[&'static SupportedProtocolVersion]| {
            let builder = ServerConfig::builder_with_provider(Arc::new(aws_lc_rs::default_provider()));
            let versioned = builder.with_protocol_versions(versions).expect("the provider knows TLS 1.2 and 1.3");
            Arc::new(versioned.with_no_client_auth().with_cert_resolver(Arc::clone(&resolver) as _))
        };
        let (usual, only_13) = (speaking(rustls::ALL_VERSIONS), speaking(&[&TLS13]));
        let served = Arc::clone(&self.served);
        let config = move |name: Option<&str>| {
            let is_only =
                |name| served.read().is_ok_and(|all| all.sites.get(name).is_some_and(|site| site.tls13_alone));
            Arc::clone(if name.is_some_and(is_only) { &only_13 } else { &usual })
        };
        serve_tls(listener, config, move |request, from| {
            let server = self.clone();
            async move { server.answer(request, from, true).await }
        })
        .await;
    }
}

/// Who answers.
enum Reply {
    Own(Response<Full<Bytes>>),
    /// A program, by its address.
    Of(Option<SocketAddr>),
}

/// What one site answers: proofs and the fingerprint, then https, redirects, the twin, content.
fn respond(site: &PlainSite, name: &str, asked: &str, request: &Request<Incoming>, secure: bool) -> Reply {
    let path = String::from_utf8_lossy(&percent_decoded(request.uri().path())).into_owned();
    if let Some(response) = before_content(site, name, asked, request, &path, secure) {
        return Reply::Own(response);
    }
    if site.guarded.iter().any(|guarded| is_at_or_below(guarded, &path)) {
        return Reply::Own(text(StatusCode::UNAUTHORIZED, "The stand-in knows no passwords."));
    }
    let fits = |part: &&PlainPart| is_at_or_below(&part.path, &path);
    let part = site.parts.iter().filter(fits).max_by_key(|part| part.path.len());
    if let Some(part) = part.filter(|part| part.path == path && path != "/" && part.by != "program") {
        let query = request.uri().query().map(|query| format!("?{query}")).unwrap_or_default();
        let scheme = if secure { "https" } else { "http" };
        return Reply::Own(sent(301, &format!("{scheme}://{asked}{}/{query}", part.path)));
    }
    match part.filter(|part| part.by != "files") {
        Some(part) => Reply::Of(part.program),
        None => Reply::Own(content(site, asked, request, &path, secure)),
    }
}

/// What comes before the content of a site.
fn before_content(
    site: &PlainSite,
    name: &str,
    asked: &str,
    request: &Request<Incoming>,
    path: &str,
    secure: bool,
) -> Option<Response<Full<Bytes>>> {
    let raw = request.uri().path();
    if path == FINGERPRINT_PATH {
        return Some(text(StatusCode::FORBIDDEN, &site.fingerprint));
    }
    let read = [Method::GET, Method::HEAD].contains(request.method());
    let unreadable = || said(StatusCode::METHOD_NOT_ALLOWED);
    if let Some(token) = path.strip_prefix(PROOF_PATH) {
        return Some(if read { file(&site.proofs, token) } else { unreadable() });
    }
    if let Some((_, demanded)) = site.demanded.iter().find(|(demanded, _)| *demanded == *path) {
        let (folder, name) = (demanded.parent().unwrap_or(demanded), demanded.file_name().unwrap_or_default());
        return Some(if read { file(folder, &name.to_string_lossy()) } else { unreadable() });
    }
    let whole = request.uri().path_and_query().map_or("/", |rest| rest.as_str());
    let authority = |host: &str, tls: bool| {
        let (port, usual) = if tls { (site.https_port, 443) } else { (site.http_port, 80) };
        if port == usual { host.to_string() } else { format!("{host}:{port}") }
    };
    let Some(host) = site.hosts.iter().find(|host| host.name.as_str() == name) else {
        return Some(said(StatusCode::NOT_FOUND));
    };
    if host.http_sent_to_https && !secure {
        return Some(sent(301, &format!("https://{}{whole}", authority(name, true))));
    }
    let scheme = if secure { "https" } else { "http" };
    for redirect in &host.redirects {
        let bare = if redirect.path == "/" { "" } else { &redirect.path };
        let itself = path == redirect.path;
        let below = redirect.prefix && path.starts_with(&format!("{bare}/"));
        if !itself && !below {
            continue;
        }
        let base = if redirect.same_host { format!("{scheme}://{asked}") } else { String::new() };
        let mut target = format!("{base}{}", redirect.target);
        if redirect.keep_path {
            let query = request.uri().query().map(|query| format!("?{query}")).unwrap_or_default();
            if !itself {
                // The raw path behind as many slashes as the redirect's own path has.
                let cut = raw.match_indices('/').nth(bare.matches('/').count()).map_or("", |(at, _)| &raw[at..]);
                target = format!("{}{cut}", target.trim_end_matches('/'));
            }
            target.push_str(&query);
        }
        return Some(sent(redirect.status, &target));
    }
    if let Some(twin) = &host.sent_to {
        return Some(sent(301, &format!("{scheme}://{}{whole}", authority(twin.as_str(), secure))));
    }
    None
}

/// A file of the document root, or why there is none.
fn content(
    site: &PlainSite,
    asked: &str,
    request: &Request<Incoming>,
    path: &str,
    secure: bool,
) -> Response<Full<Bytes>> {
    let raw = request.uri().path();
    let scheme = if secure { "https" } else { "http" };
    if is_hidden(path) {
        return said(StatusCode::NOT_FOUND);
    }
    if is_script(path) {
        return said(StatusCode::FORBIDDEN);
    }
    if ![Method::GET, Method::HEAD].contains(request.method()) {
        return said(StatusCode::METHOD_NOT_ALLOWED);
    }
    if leads_to_others(&site.document_root, path) {
        return said(StatusCode::FORBIDDEN);
    }
    let folder = site.document_root.join(path.trim_start_matches('/'));
    if !path.ends_with('/') && !path.contains("..") && folder.is_dir() {
        let query = request.uri().query().map(|query| format!("?{query}")).unwrap_or_default();
        return sent(301, &format!("{scheme}://{asked}{raw}/{query}"));
    }
    file(&site.document_root, path)
}

/// Whether a link on the way below the root leads to what somebody else owns than the link.
fn leads_to_others(root: &Path, path: &str) -> bool {
    let mut at = root.to_path_buf();
    path.split('/').filter(|part| !part.is_empty()).any(|part| {
        at.push(part);
        let (link, target) = (at.symlink_metadata(), at.metadata());
        link.is_ok_and(|link| link.is_symlink() && target.is_ok_and(|target| target.uid() != link.uid()))
    })
}

/// A status with the words that every server has for it.
fn said(status: StatusCode) -> Response<Full<Bytes>> {
    let words = WORDS.iter().find(|(_, statuses, _)| statuses.contains(&status.as_u16()));
    text(status, words.map_or("", |(_, _, words)| words))
}

fn sent(status: u16, target: &str) -> Response<Full<Bytes>> {
    let mut response = said(StatusCode::from_u16(status).unwrap_or(StatusCode::FOUND));
    if let Ok(target) = HeaderValue::from_str(target) {
        response.headers_mut().insert(LOCATION, target);
    }
    response
}

fn percent_decoded(path: &str) -> Vec<u8> {
    let mut decoded = Vec::new();
    let mut rest = path.as_bytes();
    while let Some((&byte, more)) = rest.split_first() {
        let digits = more.get(..2).and_then(|digits| std::str::from_utf8(digits).ok());
        let value = digits.and_then(|digits| u8::from_str_radix(digits, 16).ok()).filter(|_| byte == b'%');
        decoded.push(value.unwrap_or(byte));
        rest = if value.is_some() { &more[2..] } else { more };
    }
    decoded
}

#[derive(Debug)]
struct BySni {
    served: Arc<RwLock<Served>>,
    /// What was asked for where no name was sent.
    address: String,
}

impl ResolvesServerCert for BySni {
    fn resolve(&self, hello: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        let name = hello.server_name().unwrap_or(&self.address);
        self.served.read().ok()?.keys.get(name).cloned()
    }
}

fn certified_key(chain: &Path, key: &Path) -> Result<CertifiedKey, String> {
    let chain: Vec<CertificateDer<'static>> = CertificateDer::pem_file_iter(chain)
        .map_err(|error| error.to_string())?
        .collect::<Result<_, _>>()
        .map_err(|error| error.to_string())?;
    let key = PrivateKeyDer::from_pem_file(key).map_err(|error| error.to_string())?;
    let key = aws_lc_rs::sign::any_supported_type(&key).map_err(|error| error.to_string())?;
    let pair = CertifiedKey::new(chain, key);
    pair.keys_match().map_err(|error| error.to_string())?;
    Ok(pair)
}

pub(crate) fn text(status: StatusCode, body: &str) -> Response<Full<Bytes>> {
    let mut response = Response::new(Full::new(Bytes::copy_from_slice(body.as_bytes())));
    *response.status_mut() = status;
    response.headers_mut().insert(CONTENT_TYPE, HeaderValue::from_static("text/plain; charset=utf-8"));
    response
}

/// A file below `root`; the index page for a folder.
fn file(root: &Path, path: &str) -> Response<Full<Bytes>> {
    let relative = Path::new(path.trim_start_matches('/'));
    let plain = relative.components().all(|part| matches!(part, std::path::Component::Normal(_)));
    let mut full = root.join(relative);
    let folder = full.is_dir();
    if folder {
        full.push("index.html");
    }
    match std::fs::read(&full) {
        Ok(content) if plain => {
            let mut response = Response::new(Full::new(Bytes::from(content)));
            let html = full.extension().is_some_and(|ending| ending == "html");
            let kind = if html { "text/html; charset=utf-8" } else { "application/octet-stream" };
            response.headers_mut().insert(CONTENT_TYPE, HeaderValue::from_static(kind));
            response
        }
        _ if folder && plain => said(StatusCode::FORBIDDEN),
        _ => said(StatusCode::NOT_FOUND),
    }
}

/// Serves the same page for every host: what visitors of a site that has not moved yet get.
pub(crate) async fn serve_old_host(listener: TcpListener) {
    serve_plain(listener, |_, _| async {
        let mut response = Response::new(Full::new(Bytes::from("<h1>Old Quay Hosting</h1>\n")));
        response.headers_mut().insert(CONTENT_TYPE, HeaderValue::from_static("text/html"));
        response
    })
    .await;
}

/// Answers http requests with `answer` until the runtime ends.
pub(crate) async fn serve_plain<F, R>(listener: TcpListener, answer: F)
where
    F: Fn(Request<Incoming>, SocketAddr) -> R + Clone + Send + Sync + 'static,
    R: Future<Output = Response<Full<Bytes>>> + Send + 'static,
{
    while let Ok((stream, from)) = listener.accept().await {
        serve_stream(stream, from, answer.clone());
    }
}

/// The same over TLS.
pub(crate) async fn serve_tls<C, F, R>(listener: TcpListener, config: C, answer: F)
where
    C: Fn(Option<&str>) -> Arc<ServerConfig> + Clone + Send + Sync + 'static,
    F: Fn(Request<Incoming>, SocketAddr) -> R + Clone + Send + Sync + 'static,
    R: Future<Output = Response<Full<Bytes>>> + Send + 'static,
{
    while let Ok((stream, from)) = listener.accept().await {
        let (config, answer) = (config.clone(), answer.clone());
        tokio::spawn(async move {
            let Ok(start) = LazyConfigAcceptor::new(Acceptor::default(), stream).await else { return };
            let config = config(start.client_hello().server_name());
            if let Ok(stream) = start.into_stream(config).await {
                serve_stream(stream, from, answer);
            }
        });
    }
}

fn serve_stream<S, F, R>(stream: S, from: SocketAddr, answer: F)
where
    S: tokio::io::AsyncRead + tokio::io::AsyncWrite + Unpin + Send + 'static,
    F: Fn(Request<Incoming>, SocketAddr) -> R + Clone + Send + Sync + 'static,
    R: Future<Output = Response<Full<Bytes>>> + Send + 'static,
{
    tokio::spawn(async move {
        let service = service_fn(move |request| {
            let answer = answer.clone();
            async move {
                let response = answer(request, from).await;
                match response.extensions().get::<crate::ca::Lost>() {
                    None => Ok(response),
                    Some(_) => Err(std::io::Error::other("lost on its way")),
                }
            }
        });
        let _ = hyper::server::conn::http1::Builder::new().serve_connection(TokioIo::new(stream), service).await;
    });
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_come_from_inside_the_root_alone() {
        let folder = std::env::temp_dir().join(format!("standin-web-{}", std::process::id()));
        std::fs::create_dir_all(folder.join("root/below")).unwrap();
        std::fs::write(folder.join("secret"), "secret").unwrap();
        std::fs::write(folder.join("root/index.html"), "front").unwrap();
        let status = |path: &str| file(&folder.join("root"), path).status().as_u16();
        assert_eq!((status("/"), status("/index.html"), status("/below/")), (200, 200, 403));
        for path in ["/../secret", "/below/../../secret", "//../secret"] {
            assert_eq!(status(path), 404, "{path}");
        }
        std::fs::remove_dir_all(&folder).unwrap();
    }
}

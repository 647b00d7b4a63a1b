//! Fetches the certificate of an issuer from the address that a certificate names (RFC 5280 section 4.2.2.1).

use std::sync::Arc;

use url::Url;

use crate::http::Connection;
use crate::trust;

/// An issuer's certificate, or a bundle of several.
const MOST_BYTES: usize = 256 * 1024;
const MOST_ADDRESSES: usize = 4;

/// What stands at the address. What is fetched over plain http proves itself by its signature, and is used for nothing
/// else.
pub async fn fetch_issuer(address: &str) -> Result<Vec<u8>, String> {
    fetch(address, None, MOST_BYTES).await
}

/// The same of at most so many bytes, or the answer to what is posted there, of this media type.
pub(super) async fn fetch(address: &str, posted: Option<(&str, Vec<u8>)>, most: usize) -> Result<Vec<u8>, String> {
    let url: Url = address.parse().map_err(|error| format!("it is not a URL: {error}"))?;
    let tls = match url.scheme() {
        "http" => None,
        "https" => Some(trust::client(trust::roots(&[]).map_err(|error| error.to_string())?)),
        other => return Err(format!("{other} is not fetched from")),
    };
    let host = url.host_str().ok_or("it names no host")?.to_string();
    let port = url.port_or_known_default().unwrap_or(80);
    let authority = url.port().map_or_else(|| host.clone(), |port| format!("{host}:{port}"));
    let found = tokio::net::lookup_host((host.trim_matches(['[', ']']), port)).await;
    let mut last = "its host has no address".to_string();
    for at in found.map_err(|error| error.to_string())?.take(MOST_ADDRESSES) {
        let path = url.query().map_or_else(|| url.path().to_string(), |query| format!("{}?{query}", url.path()));
        let answer = match Connection::open(at, &host, &authority, tls.as_ref().map(Arc::clone)).await {
            Ok(mut connection) => match &posted {
                None => connection.send("GET", &path, &[], vec![], most).await,
                Some((kind, body)) => {
                    connection.send("POST", &path, &[("content-type", *kind)], body.clone(), most).await
                }
            },
            Err(error) => Err(error),
        };
        match answer {
            Ok(answer) if answer.status == 200 => return Ok(answer.body),
            Ok(answer) => last = format!("it answers {}", answer.status),
            Err(error) => last = error.to_string(),
        }
    }
    Err(last)
}

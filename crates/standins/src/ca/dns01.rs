//! Validates control of a name by dns-01 (RFC 8555 section 8.4): looks for the TXT record itself, past all caches.

use aws_lc_rs::digest;
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;

use crate::dns::resolver::Resolver;
use crate::dns::zone_data::zone_name;

pub(super) async fn validate(resolver: &Resolver, name: &str, authorized: &str) -> Result<(), String> {
    let expected = URL_SAFE_NO_PAD.encode(digest::digest(&digest::SHA256, authorized.as_bytes()).as_ref());
    let texts = resolver.texts(&zone_name(&format!("_acme-challenge.{name}"))?).await;
    match texts.len() {
        _ if texts.contains(&expected) => Ok(()),
        0 => Err(format!("no TXT record found at _acme-challenge.{name}")),
        _ => Err(format!("the TXT record at _acme-challenge.{name} says something else: {}", texts.join(", "))),
    }
}

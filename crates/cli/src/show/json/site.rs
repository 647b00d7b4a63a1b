//! The hosts of a site as JSON: each with what is true of it alone.

use brightharbor_core::site::Site;
use serde::Serialize;

use crate::show::words::https_word;

#[derive(Debug, Serialize)]
pub struct HostDocument<'a> {
    host: &'a str,
    /// `none`, `offered` or `forced`.
    https: &'static str,
}

pub fn hosts_document(site: &Site) -> Vec<HostDocument<'_>> {
    let host = |host| HostDocument { https: https_word(site.https_of(host)), host: host.as_str() };
    site.hostnames.iter().map(host).collect()
}

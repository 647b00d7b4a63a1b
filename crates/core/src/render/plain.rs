//! The site model as JSON, for the stand-in web server: the same facts that the nginx and Apache files hold.

use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use super::Served;
use crate::name::Hostname;

/// What the stand-in web server reads.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PlainSite {
    pub hostnames: Vec<Hostname>,
    pub document_root: PathBuf,
    pub proofs: PathBuf,
    pub fingerprint: String,
    pub https_port: u16,
    pub http_sent_to_https: bool,
    pub chain: Option<PathBuf>,
    pub key: Option<PathBuf>,
}

pub(super) fn render(served: &Served<'_>) -> String {
    let site = PlainSite {
        hostnames: served.site.hostnames.clone(),
        document_root: served.site.document_root.clone(),
        proofs: served.proofs.to_path_buf(),
        fingerprint: served.fingerprint.clone(),
        https_port: served.https_port,
        http_sent_to_https: served.forced(),
        chain: served.site.certificate.as_ref().map(|files| files.chain()),
        key: served.site.certificate.as_ref().map(|files| files.key()),
    };
    serde_json::to_string_pretty(&site).expect("plain values become JSON") + "\n"
}

//! The site model as JSON, for the stand-in web server: the same facts that the nginx and Apache files hold.

use std::net::SocketAddr;
use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use super::{Served, host_plan};
use crate::name::Host;
use crate::redirect::{Redirect, Target};
use crate::site::{Answering, Part, TlsFloor, Upstream};

/// What the stand-in web server reads.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PlainSite {
    pub hosts: Vec<PlainHost>,
    pub document_root: PathBuf,
    pub proofs: PathBuf,
    /// Files for sellers of certificates: the path of each, and where it lies.
    #[serde(default)]
    pub demanded: Vec<(String, PathBuf)>,
    /// What something else than a file answers at, and files below that.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub parts: Vec<PlainPart>,
    /// Paths that not everybody may see: the stand-in shows them to nobody.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub guarded: Vec<String>,
    pub fingerprint: String,
    pub http_port: u16,
    pub https_port: u16,
    pub hsts: Option<u32>,
    /// TLS 1.2 is refused.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub tls13_alone: bool,
    pub chain: Option<PathBuf>,
    pub key: Option<PathBuf>,
}

/// A path with who answers there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PlainPart {
    pub path: String,
    /// `files`, `php` or `program`.
    pub by: String,
    /// A program that it could ask.
    pub program: Option<SocketAddr>,
}

/// One hostname with what it does.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PlainHost {
    pub name: Host,
    /// The first that fits is taken.
    pub redirects: Vec<PlainRedirect>,
    pub sent_to: Option<Host>,
    pub http_sent_to_https: bool,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PlainRedirect {
    pub path: String,
    pub prefix: bool,
    pub target: String,
    /// Whether the target is a path on the host that was asked.
    pub same_host: bool,
    pub keep_path: bool,
    pub status: u16,
}

fn plain_part(part: &Part) -> PlainPart {
    let program = match &part.by {
        Answering::Program(Upstream::Address(address)) => Some(*address),
        _ => None,
    };
    PlainPart { path: part.path.clone(), by: part.by.word().to_string(), program }
}

pub(super) fn render(served: &Served<'_>) -> String {
    let redirect = |redirect: &Redirect| PlainRedirect {
        path: redirect.source.path.clone(),
        prefix: redirect.source.prefix,
        target: redirect.target.text().to_string(),
        same_host: matches!(redirect.target, Target::Path(_)),
        keep_path: redirect.keep_path,
        status: redirect.status,
    };
    let hosts = host_plan::each(served.site).into_iter().map(|plan| PlainHost {
        name: plan.hostnames[0].clone(),
        redirects: plan.redirects.iter().map(|one| redirect(one)).collect(),
        sent_to: plan.sent_to,
        http_sent_to_https: plan.forced,
    });
    let site = PlainSite {
        hosts: hosts.collect(),
        document_root: served.site.document_root.clone(),
        proofs: served.proofs.to_path_buf(),
        demanded: served.demanded().map(|(path, file)| (path.to_string(), file)).collect(),
        parts: served.site.rules.content.parts.iter().map(plain_part).collect(),
        guarded: served.site.rules.content.guards.iter().map(|guard| guard.path.clone()).collect(),
        fingerprint: served.fingerprint.clone(),
        http_port: served.http_port,
        https_port: served.https_port,
        hsts: served.site.rules.hsts,
        tls13_alone: served.site.rules.tls == TlsFloor::Tls13,
        chain: served.site.certificate.as_ref().map(|files| files.chain()),
        key: served.site.certificate.as_ref().map(|files| files.key()),
    };
    serde_json::to_string_pretty(&site).expect("plain values become JSON") + "\n"
}

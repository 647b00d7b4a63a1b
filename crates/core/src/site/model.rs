//! Sites as the inventory holds them: hostnames, document root, and the rules that they are served by.

use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use super::{Content, HttpsStates};
use crate::account::AccountName;
use crate::certificate::{CertificateFiles, CertificateWish, Demand};
use crate::name::{Host, Hostname};
use crate::redirect::Redirect;

/// One thing served. Its main hostname, the first one, is its key in the inventory.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Site {
    pub account: AccountName,
    /// Never empty; the first is the main one.
    pub hostnames: Vec<Host>,
    pub document_root: PathBuf,
    pub kind: SiteKind,
    pub https: HttpsStates,
    /// The certificate that the web server file names.
    pub certificate: Option<CertificateFiles>,
    #[serde(default)]
    pub rules: SiteRules,
}

/// How a site is served beside its names and folder.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, rename_all = "kebab-case")]
pub struct SiteRules {
    pub www: WwwPolicy,
    /// How far https is to go once a certificate allows it.
    #[serde(rename = "https-wish")]
    pub https_policy: HttpsPolicy,
    pub tls: TlsFloor,
    /// For how many seconds browsers are to use https alone (RFC 6797).
    pub hsts: Option<u32>,
    pub redirects: Vec<Redirect>,
    /// What answers at its paths.
    #[serde(skip_serializing_if = "Content::is_default")]
    pub content: Box<Content>,
    /// How its certificate is obtained.
    #[serde(skip_serializing_if = "is_default")]
    pub certificate: Box<CertificateWish>,
    /// What a seller requires before it sells one.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub demands: Vec<Demand>,
}

fn is_default(wish: &CertificateWish) -> bool {
    *wish == CertificateWish::default()
}

/// Whether a name and its `www.` twin are served alike, or one redirects to the other.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum WwwPolicy {
    /// Both are served.
    #[default]
    Also,
    /// `www.` redirects to the bare name.
    ToBare,
    /// The bare name is sent to `www.`.
    ToWww,
    /// No twin was asked for.
    None,
}

#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum HttpsPolicy {
    /// http is sent to https.
    #[default]
    Forced,
    /// Both are served.
    Offered,
}

/// The oldest TLS version that is accepted.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum TlsFloor {
    /// TLS 1.2 and 1.3.
    #[default]
    Tls12,
    /// TLS 1.3 alone.
    Tls13,
}

impl Site {
    pub fn main(&self) -> &Host {
        &self.hostnames[0]
    }

    /// Whether it is asked for by this name.
    pub fn has(&self, name: &Hostname) -> bool {
        self.hostnames.iter().any(|host| host == name)
    }

    /// The twin that a hostname is sent to by the www policy.
    pub fn sent_to(&self, hostname: &Host) -> Option<Host> {
        let twin = match self.rules.www {
            WwwPolicy::ToBare => hostname.without_www(),
            WwwPolicy::ToWww if hostname.without_www().is_none() => hostname.with_www(),
            WwwPolicy::ToWww | WwwPolicy::Also | WwwPolicy::None => None,
        };
        twin.filter(|twin| self.hostnames.contains(twin))
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum SiteKind {
    /// A registrable domain of its own with a document root of its own.
    AddonDomain,
    /// A name below a domain.
    Subdomain,
    /// No name: asked for by its address.
    ByAddress,
}

impl SiteKind {
    pub fn words(self) -> &'static str {
        match self {
            SiteKind::AddonDomain => "addon domain",
            SiteKind::Subdomain => "subdomain",
            SiteKind::ByAddress => "site by address",
        }
    }
}

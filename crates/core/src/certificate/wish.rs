//! How the certificate of a site is to be got, now and at each renewal: kept with the site.

use std::collections::BTreeSet;

use serde::{Deserialize, Serialize};

use super::{Certificate, CertificateDetails, CertificateSource};
use crate::acme::{Identifier, ProofKind};
use crate::name::{Host, Hostname};

/// What was asked for when a certificate was ordered. Everything has a default.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, rename_all = "kebab-case")]
pub struct CertificateWish {
    /// The CA, by its name in the settings; that of `[ca]` when not named.
    pub ca: Option<String>,
    pub key: KeyKind,
    /// Whether a renewal takes the key that is there, for those who pin it.
    pub keep_key: bool,
    pub proof: ProofWish,
    /// The main hostname of the site whose certificate this one takes as well, in place of one of its own.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from: Option<Host>,
    /// Names below which all names are to be covered, one label deep.
    pub wildcards: Vec<Hostname>,
    /// The kind of certificate, by the CA's own name for it (draft-ietf-acme-profiles); the CA's choice when not named.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub profile: Option<String>,
    /// Whether it is to demand the CA's statement in each handshake (RFC 7633), so that a revoked one is taken by nobody.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub stapled: bool,
}

impl CertificateWish {
    /// Whether a certificate, for a key of this kind, is what would be ordered now. Those that no CA of the settings issued
    /// are taken as they are.
    pub fn is_met_by(&self, certificate: &Certificate, key: Option<&str>) -> bool {
        let wildcards = |parents: &[Hostname]| parents.iter().cloned().collect::<BTreeSet<_>>();
        certificate.source != CertificateSource::Ca
            || key.is_some_and(|key| self.keep_key || key == self.key.words())
                && self.is_from_ca_of(&certificate.details)
                && certificate.details.stapled == self.stapled
                && wildcards(&certificate.details.wildcards) == wildcards(&self.wildcards)
    }
}

impl CertificateWish {
    /// The CA that is wished for, by its name in the settings.
    pub fn ca_word(&self) -> &str {
        self.ca.as_deref().unwrap_or("default")
    }

    /// The profile that is still wished for, where the CA did not offer it any more.
    pub fn withdrawn<'a>(&self, details: &'a CertificateDetails) -> Option<&'a str> {
        let instead_of = details.instead_of_profile.as_deref();
        instead_of.filter(|wished| self.profile.as_deref() == Some(*wished))
    }

    /// One of a CA that stepped in is good until it is to be renewed: then the CA that was wished for is asked again.
    fn is_from_ca_of(&self, details: &CertificateDetails) -> bool {
        match &details.in_place_of {
            Some(silent) => silent == self.ca_word(),
            None => details.ca == self.ca && details.profile == self.profile,
        }
    }
}

/// What kind of key is made.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum KeyKind {
    #[default]
    P256,
    P384,
    Rsa2048,
    Rsa3072,
    Rsa4096,
}

/// How control of the names is proven to the CA.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ProofWish {
    /// Over http for names that resolve to this host, or by what else there is where nobody takes http; by a DNS record
    /// for wildcards.
    #[default]
    Fitting,
    /// Over http and by nothing else.
    Http01,
    /// By a DNS record for all names, also for those that lead elsewhere.
    Dns01,
    /// In a TLS handshake (RFC 8737), where http does not get through; by a DNS record for wildcards.
    TlsAlpn01,
}

impl ProofWish {
    /// What control of one entry of an order is proven by. Only a DNS record proves it for all names below one (RFC 8555
    /// section 7.1.3), and there is none for an address.
    pub fn kind_for(self, identifier: &Identifier) -> ProofKind {
        match self {
            _ if identifier.wildcard => ProofKind::Dns01,
            ProofWish::Dns01 if identifier.name.address().is_none() => ProofKind::Dns01,
            ProofWish::TlsAlpn01 => ProofKind::TlsAlpn01,
            ProofWish::Fitting | ProofWish::Http01 | ProofWish::Dns01 => ProofKind::Http01,
        }
    }

    /// What an order goes by where nobody takes connections for http; `None` if nothing is left. A handshake comes first,
    /// since it waits for no secondary nameserver.
    pub fn without_http(self, means: Means) -> Option<Self> {
        match self {
            ProofWish::Http01 => None,
            ProofWish::Dns01 | ProofWish::TlsAlpn01 => Some(self),
            ProofWish::Fitting if means.over_tls => Some(ProofWish::TlsAlpn01),
            ProofWish::Fitting if means.by_dns => Some(ProofWish::Dns01),
            ProofWish::Fitting => None,
        }
    }
}

/// What the harbor could prove the names of an order by, beside http.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Means {
    /// Something passes connections for such proofs on to us.
    pub over_tls: bool,
    /// Records of all the names can be written from here.
    pub by_dns: bool,
}

impl KeyKind {
    pub fn words(self) -> &'static str {
        match self {
            KeyKind::P256 => "EC P-256",
            KeyKind::P384 => "EC P-384",
            KeyKind::Rsa2048 => "RSA 2048",
            KeyKind::Rsa3072 => "RSA 3072",
            KeyKind::Rsa4096 => "RSA 4096",
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::certificate::{CertificateFiles, CertificateState};

    fn host(text: &str) -> Host {
        Host::parse(text).unwrap()
    }

    #[test]
    fn what_was_issued_otherwise_is_not_what_is_wished() {
        let start = jiff::Timestamp::UNIX_EPOCH;
        let mut certificate = Certificate {
            site: host("gullrock.example"),
            names: vec![host("gullrock.example")],
            files: CertificateFiles { folder: "/harbor".into() },
            not_before: start,
            not_after: start,
            state: CertificateState::Served,
            source: CertificateSource::Ca,
            details: CertificateDetails {
                wildcards: vec![Hostname::parse("gullrock.example").unwrap()],
                ..CertificateDetails::default()
            },
        };
        let wish = CertificateWish {
            wildcards: vec![Hostname::parse("gullrock.example").unwrap()],
            ..CertificateWish::default()
        };
        let p256 = Some("EC P-256");
        assert!(wish.is_met_by(&certificate, p256));
        assert!(!wish.is_met_by(&certificate, Some("RSA 2048")) && !wish.is_met_by(&certificate, None));
        assert!(CertificateWish { keep_key: true, ..wish.clone() }.is_met_by(&certificate, Some("RSA 2048")));
        assert!(!CertificateWish { ca: Some("pier".into()), ..wish.clone() }.is_met_by(&certificate, p256));
        assert!(!CertificateWish { profile: Some("short".into()), ..wish.clone() }.is_met_by(&certificate, p256));
        assert!(!CertificateWish::default().is_met_by(&certificate, p256));
        assert!(!CertificateWish { stapled: true, ..wish.clone() }.is_met_by(&certificate, p256));
        let (ca, silent) = (Some("pier".to_string()), Some("default".to_string()));
        certificate.details = CertificateDetails { ca, in_place_of: silent, ..certificate.details };
        let weekly = CertificateWish { profile: Some("week".into()), ..wish.clone() };
        assert!(wish.is_met_by(&certificate, p256) && weekly.is_met_by(&certificate, p256), "it stepped in");
        assert!(!CertificateWish { ca: Some("quay".into()), ..wish }.is_met_by(&certificate, p256));
        let details = CertificateDetails { instead_of_profile: Some("week".into()), ..CertificateDetails::default() };
        assert_eq!(weekly.withdrawn(&details), Some("week"));
        assert_eq!(CertificateWish::default().withdrawn(&details), None, "nobody asks for it any more");
        certificate.source = CertificateSource::Imported;
        assert!(CertificateWish::default().is_met_by(&certificate, None));
    }

    #[test]
    fn each_entry_has_the_proof_that_there_is_for_it() {
        let plain = Identifier::from(host("gullrock.example"));
        let (below, address) = (Identifier::below(plain.name.name().unwrap()), Identifier::from(host("192.0.2.10")));
        let kinds = |wish: ProofWish| [&plain, &below, &address].map(|one| wish.kind_for(one).word());
        assert_eq!(kinds(ProofWish::Fitting), ["http-01", "dns-01", "http-01"]);
        assert_eq!(kinds(ProofWish::Http01), ["http-01", "dns-01", "http-01"]);
        assert_eq!(kinds(ProofWish::Dns01), ["dns-01", "dns-01", "http-01"]);
        assert_eq!(kinds(ProofWish::TlsAlpn01), ["tls-alpn-01", "dns-01", "tls-alpn-01"]);
    }

    #[test]
    fn without_http_what_is_left_is_taken_unless_http_was_asked_for() {
        let both = Means { over_tls: true, by_dns: true };
        assert_eq!(ProofWish::Fitting.without_http(both), Some(ProofWish::TlsAlpn01));
        let zones = Means { over_tls: false, by_dns: true };
        assert_eq!(ProofWish::Fitting.without_http(zones), Some(ProofWish::Dns01));
        assert_eq!(ProofWish::Fitting.without_http(Means::default()), None);
        assert_eq!(ProofWish::Http01.without_http(both), None);
        assert_eq!(ProofWish::TlsAlpn01.without_http(zones), Some(ProofWish::TlsAlpn01));
    }
}

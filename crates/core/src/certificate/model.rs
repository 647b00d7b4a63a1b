//! Certificates as the inventory holds them, what waits for one, and what is still to be revoked.

use std::path::{Path, PathBuf};

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::{ends_soon, to_be_replaced_soon, usual_moment};
use crate::acme::{Identifier, RevocationReason};
use crate::name::{Host, Hostname};

/// What the name of a folder ends with that has the statement of the CA in it which its certificate demands: so whoever
/// names the folder, such as a site file, knows of it.
const STAPLED: &str = "-stapled";

/// Where a certificate lies: chain and key always change together, by naming another folder.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CertificateFiles {
    pub folder: PathBuf,
}

impl CertificateFiles {
    /// A folder that is not there yet, for a certificate that came at this moment.
    pub fn new_below(parent: PathBuf, now: Timestamp, stapled: bool) -> Self {
        let (stamp, suffix) = (now.strftime("%Y%m%d-%H%M%S-%3f"), if stapled { STAPLED } else { "" });
        Self { folder: parent.join(format!("{stamp}{suffix}")) }
    }

    pub fn chain(&self) -> PathBuf {
        self.folder.join("chain.pem")
    }

    pub fn key(&self) -> PathBuf {
        self.folder.join("key.pem")
    }

    /// The statement of its CA that it is to be shown with (RFC 7633), if it demands one.
    pub fn staple(&self) -> PathBuf {
        self.folder.join("staple.der")
    }

    pub fn is_stapled(&self) -> bool {
        self.folder.to_string_lossy().ends_with(STAPLED)
    }

    pub fn folder(&self) -> &Path {
        &self.folder
    }
}

/// A certificate in the inventory.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Certificate {
    pub site: Host,
    pub names: Vec<Host>,
    pub files: CertificateFiles,
    pub not_before: Timestamp,
    pub not_after: Timestamp,
    pub state: CertificateState,
    #[serde(default)]
    pub source: CertificateSource,
    #[serde(default)]
    pub details: CertificateDetails,
}

/// What else is known of a certificate.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, rename_all = "kebab-case")]
pub struct CertificateDetails {
    /// The CA that it came from, by its name in the settings; that of `[ca]` when not named.
    pub ca: Option<String>,
    /// The CA that was wished for and did not answer, where another one stepped in; that of `[ca]` is `default`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub in_place_of: Option<String>,
    /// The names below which it covers all names, one label deep.
    pub wildcards: Vec<Hostname>,
    /// The kind, by its CA's own name for it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub profile: Option<String>,
    /// The kind that was wished for, where the CA does not offer it any more.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub instead_of_profile: Option<String>,
    /// Whether the CA was asked for one that demands its statement in each handshake (RFC 7633).
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub stapled: bool,
    /// Whether that was wished for as well, and given up since it could not be had and time was short.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub unstapled: bool,
}

/// Where a certificate comes from.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum CertificateSource {
    /// The CA of the settings: renewed without being asked.
    #[default]
    Ca,
    /// Imported: somebody else renews it.
    Imported,
    /// That of another site, which covers this one's names as well: renewed with it.
    Shared,
    /// Signed with its own key, as a stop-gap: the next one takes its place.
    SelfSigned,
}

impl CertificateSource {
    pub fn words(self) -> &'static str {
        match self {
            CertificateSource::Ca => "CA",
            CertificateSource::Imported => "imported",
            CertificateSource::Shared => "shared",
            CertificateSource::SelfSigned => "self-signed",
        }
    }
}

impl Certificate {
    /// Whether it is good for a hostname: by its name, or by a wildcard.
    pub fn covers(&self, hostname: &Host) -> bool {
        let parent = hostname.as_str().split_once('.').map_or("", |(_, parent)| parent);
        self.names.contains(hostname) || self.details.wildcards.iter().any(|wildcard| wildcard.as_str() == parent)
    }

    /// Whether visitors trust it, as far as was seen: shown by a handshake, in date, and no stop-gap.
    pub fn is_good(&self, now: Timestamp) -> bool {
        self.state == CertificateState::Served && now < self.not_after && self.source != CertificateSource::SelfSigned
    }

    /// Whether it expires before anybody does something about it, as far as is known: one that is renewed here should have
    /// been by now; for one that is not, somebody has to buy or order another, and hears of it a month ahead.
    pub fn runs_out_soon(&self, now: Timestamp) -> bool {
        match self.is_renewed_here() {
            true => ends_soon(self.not_before, self.not_after, now),
            false => to_be_replaced_soon(self.not_before, self.not_after, now),
        }
    }

    /// Whether another one is obtained without anybody asking.
    pub fn is_renewed_here(&self) -> bool {
        matches!(self.source, CertificateSource::Ca | CertificateSource::Shared)
    }

    /// Whether it is time to get a new one, as far as its dates say: see `certificate::usual_moment`. One that was
    /// imported is never taken for due, since it is not ours to renew; nor is one that follows that of another site.
    pub fn is_due(&self, now: Timestamp) -> bool {
        if matches!(self.source, CertificateSource::Imported | CertificateSource::Shared) {
            return false;
        }
        self.state == CertificateState::Revoked
            || usual_moment(self.not_before, self.not_after, self.site.as_str()) <= now
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum CertificateState {
    /// The files are there and the web server has been told.
    Installed,
    /// A handshake has shown it.
    Served,
    /// The CA was told to revoke it, with nothing to take its place.
    Revoked,
}

impl CertificateState {
    pub fn word(self) -> &'static str {
        match self {
            CertificateState::Installed => "installed",
            CertificateState::Served => "served",
            CertificateState::Revoked => "revoked",
        }
    }
}

/// Something `tend` continues: a certificate for the site, as soon as its links allow it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Waiting {
    pub site: Host,
    pub since: Timestamp,
    /// Not to be tried before, where somebody has said so (a CA's Retry-After, a TTL).
    pub not_before: Option<Timestamp>,
    /// What went wrong the last time; empty while only the links are waited for.
    pub reason: String,
}

/// A name that a CA could not validate: until then it is left out of orders, and holds up no other.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct NamePause {
    pub name: Identifier,
    /// The site that it is a name of.
    pub site: Host,
    /// Since when it has been refused.
    pub since: Timestamp,
    pub not_before: Timestamp,
    pub reason: String,
}

/// What a CA is to be told as soon as it can be.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Revocation {
    pub site: Host,
    /// Of the certificate that is to be revoked.
    pub files: CertificateFiles,
    /// The CA that it is from, by its name in the settings; that of `[ca]` is `default`.
    pub ca: String,
    pub reason: RevocationReason,
    /// When it expires.
    pub not_after: Timestamp,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_certificate_is_due_when_a_third_is_left_however_short_it_lives() {
        let at = |text: &str| text.parse::<Timestamp>().unwrap();
        let of = |not_before: &str, not_after: &str| Certificate {
            site: Host::parse("gullrock.example").unwrap(),
            names: vec![],
            files: CertificateFiles { folder: "/harbor".into() },
            not_before: at(not_before),
            not_after: at(not_after),
            state: CertificateState::Served,
            source: CertificateSource::Ca,
            details: CertificateDetails::default(),
        };
        let long = of("2026-11-01T00:00:00Z", "2027-01-30T00:00:00Z");
        assert!(!long.is_due(at("2026-12-24T00:00:00Z")) && long.is_due(at("2027-01-01T00:00:00Z")));
        assert!(long.is_good(at("2027-01-29T00:00:00Z")) && !long.is_good(at("2027-01-30T00:00:00Z")));
        let installed = Certificate { state: CertificateState::Installed, ..long.clone() };
        let stop_gap = Certificate { source: CertificateSource::SelfSigned, ..long.clone() };
        let revoked = Certificate { state: CertificateState::Revoked, ..long.clone() };
        let now = at("2026-12-01T00:00:00Z");
        assert!(![installed, stop_gap, revoked.clone()].iter().any(|one| one.is_good(now)) && revoked.is_due(now));
        let short = of("2026-11-01T00:00:00Z", "2026-11-07T00:00:00Z");
        assert!(!short.is_due(at("2026-11-04T13:00:00Z")) && short.is_due(at("2026-11-05T01:00:00Z")));
    }
}

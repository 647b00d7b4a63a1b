//! Changes that reach beyond this harbor's own files: a service that takes a certificate, a CA that is told something.
//!
//! They are values like all others; carrying them out, and taking back what can be, is in `brightharbor-io`.

use std::path::PathBuf;

use serde::{Deserialize, Serialize};
use zeroize::Zeroizing;

use crate::acme::RevocationReason;
use crate::harbor::Service;
use crate::name::Hostname;

/// Has the service's link lead to a new folder with a certificate and its key. Its precondition is that the link leads to
/// where it did when it was read.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ServicePlacing {
    /// As the settings name it.
    pub name: String,
    pub service: Service,
    /// Where the link leads; `None`: there is none yet.
    pub former: Option<PathBuf>,
    /// The new folder, beside the link.
    pub folder: PathBuf,
    #[serde(skip)]
    pub chain_pem: String,
    /// Never recorded.
    #[serde(skip)]
    pub key_pem: Zeroizing<String>,
}

impl ServicePlacing {
    pub fn line(&self) -> String {
        let Self { name, service, .. } = self;
        let reload = if service.reload.is_empty() { "" } else { ", then have it reload" };
        format!("bring the certificate of {} to {name} in {}{reload}", service.hostname, service.folder.display())
    }
}

/// Something that a CA is told with the harbor's account there. There is no way back.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CaErrand {
    /// By its name in the settings; that of `[ca]` is `default`.
    pub ca: String,
    pub told: ToldToCa,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ToldToCa {
    /// The account has another key.
    AnotherKey,
    /// The account is reached at this mailbox; none: none.
    Contact { contact: Option<String> },
    /// The account ends.
    Closing,
    /// The first certificate of a chain file must not be trusted any more.
    Revocation { site: Hostname, chain: PathBuf, reason: RevocationReason },
}

impl CaErrand {
    pub fn line(&self) -> String {
        let ca = &self.ca;
        match &self.told {
            ToldToCa::AnotherKey => format!("give the account at the CA `{ca}` another key"),
            ToldToCa::Contact { contact: Some(contact) } => {
                format!("tell the CA `{ca}` that its account is reached at {contact}")
            }
            ToldToCa::Contact { contact: None } => format!("tell the CA `{ca}` that its account has no contact"),
            ToldToCa::Closing => format!("close the account at the CA `{ca}` for ever"),
            ToldToCa::Revocation { site, reason, .. } => {
                format!("have the CA `{ca}` revoke the certificate of {site} ({})", reason.word())
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::change::{Change, ChangeSet};

    #[test]
    fn a_recorded_placing_holds_no_key_and_reads_back() {
        let service: Service =
            serde_json::from_str(r#"{ "hostname": "mail.crumbandtide.example", "folder": "/etc/post/tls" }"#).unwrap();
        let placing = ServicePlacing {
            name: "post".into(),
            service,
            former: None,
            folder: "/etc/post/.tls-20261127".into(),
            chain_pem: "CHAIN".into(),
            key_pem: Zeroizing::new("PRIVATE".into()),
        };
        assert_eq!(placing.line(), "bring the certificate of mail.crumbandtide.example to post in /etc/post/tls");
        let mut set = ChangeSet::new("certificate install");
        set.changes.push(Change::PlaceForService(placing.clone()));
        let recorded = serde_json::to_string(&set).unwrap();
        assert!(!recorded.contains("PRIVATE") && !recorded.contains("CHAIN"), "{recorded}");
        let read: ChangeSet = serde_json::from_str(&recorded).unwrap();
        let bare = ServicePlacing { chain_pem: String::new(), key_pem: Zeroizing::default(), ..placing };
        assert_eq!(read.changes, [Change::PlaceForService(bare)]);
    }

    #[test]
    fn what_a_ca_is_told_is_said_whole() {
        let errand = |told| CaErrand { ca: "default".into(), told }.line();
        let site = Hostname::parse("gullrock.example").unwrap();
        let reason = RevocationReason::KeyCompromise;
        let revocation = ToldToCa::Revocation { site, chain: "/harbor/chain.pem".into(), reason };
        assert_eq!(
            errand(revocation),
            "have the CA `default` revoke the certificate of gullrock.example (key-compromise)"
        );
        assert_eq!(
            errand(ToldToCa::Contact { contact: None }),
            "tell the CA `default` that its account has no contact"
        );
    }
}

//! What a zone is made by: a template with all the values that went into it but the zone's own name.
//!
//! The inventory remembers the pattern of every zone, so that the lines that came from it can be told from hand-made
//! ones when a template, an address or a nameserver set changes (`realign`). Many zones share one pattern.

use std::collections::BTreeMap;
use std::fmt;
use std::net::IpAddr;

use serde::{Deserialize, Serialize};

use super::template::{BUILT_IN_TEMPLATE, fill};
use super::{Document, TemplateError};
use crate::harbor::Settings;
use crate::name::{DnsName, Hostname};

/// The values of one kind of zone.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Pattern {
    pub template: TemplateName,
    /// The text of the template.
    pub text: String,
    /// Never empty; the first is the primary of the start of authority.
    pub nameservers: Vec<DnsName>,
    /// Addresses of nameservers: written into the zone that their names lie in.
    pub nameserver_addresses: BTreeMap<DnsName, Vec<IpAddr>>,
    pub hostmaster: DnsName,
    pub addresses: Vec<IpAddr>,
    pub mail: Mail,
    /// Where mail goes that is kept here.
    pub mail_servers: Vec<DnsName>,
    /// Others serve the names of the domain: the template's lines of addresses stay out.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub without_addresses: bool,
}

/// Where the mail of a domain goes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Mail {
    /// Nothing is written: mail is arranged later, or by hand.
    Unsaid,
    /// The domain takes and sends no mail: null MX (RFC 7505) and `v=spf1 -all` (RFC 7208).
    None,
    /// To the mail servers of the settings.
    Here,
    /// To these mail servers, the preferred one first.
    Elsewhere(Vec<DnsName>),
}

/// The name of a template, `default` unless said otherwise: the name of its file in `templates/`.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct TemplateName(String);

#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PatternError {
    #[error("the settings name no nameservers for new zones")]
    NoNameservers,
    #[error("the settings have no nameserver set `{0}`")]
    UnknownSet(String),
    #[error("the settings name no mail servers")]
    NoMailServers,
    #[error("template `{0}` not found")]
    UnknownTemplate(TemplateName),
    #[error("the template `{0}` is not text")]
    NotText(TemplateName),
}

/// What a pattern is put together from, beside the settings.
#[derive(Debug, Clone)]
pub struct PatternChoice<'a> {
    pub template: &'a TemplateName,
    /// The content of its file, if there is one.
    pub file: Option<&'a [u8]>,
    pub mail: &'a Mail,
    /// A nameserver set of the settings; that of `[host]` when not named.
    pub nameserver_set: Option<&'a str>,
    /// Others serve the names of the domain.
    pub without_addresses: bool,
}

impl Pattern {
    /// The pattern that a zone gets with these settings.
    pub fn of(choice: &PatternChoice<'_>, settings: &Settings) -> Result<Self, PatternError> {
        let text = match choice.file {
            Some(bytes) => {
                String::from_utf8(bytes.to_vec()).map_err(|_| PatternError::NotText(choice.template.clone()))?
            }
            None if choice.template.is_default() => BUILT_IN_TEMPLATE.to_string(),
            None => return Err(PatternError::UnknownTemplate(choice.template.clone())),
        };
        let set = settings
            .nameserver_set(choice.nameserver_set)
            .ok_or_else(|| PatternError::UnknownSet(choice.nameserver_set.unwrap_or_default().into()))?;
        let primary = set.nameservers.first().ok_or(PatternError::NoNameservers)?;
        if *choice.mail == Mail::Here && settings.host.mail_servers.is_empty() {
            return Err(PatternError::NoMailServers);
        }
        Ok(Self {
            template: choice.template.clone(),
            text,
            hostmaster: settings.hostmaster(primary),
            nameservers: set.nameservers,
            nameserver_addresses: set.addresses,
            addresses: settings.host.addresses.clone(),
            mail: choice.mail.clone(),
            mail_servers: settings.host.mail_servers.clone(),
            without_addresses: choice.without_addresses,
        })
    }

    /// The zone that the pattern makes for a domain.
    pub fn zone(&self, domain: &Hostname, serial: u32) -> Result<Document, TemplateError> {
        fill(self, domain, serial)
    }

    /// The addresses that the template's lines get.
    pub fn addresses_for_template(&self) -> &[IpAddr] {
        if self.without_addresses { &[] } else { &self.addresses }
    }

    /// Whether the zone was made without addresses. Older patterns had none then.
    pub fn was_without_addresses(&self) -> bool {
        self.without_addresses || self.addresses.is_empty()
    }

    /// The addresses of the nameservers that lie inside a domain: without them nobody finds the servers.
    pub fn addresses_within(&self, domain: &Hostname) -> Result<Vec<(DnsName, IpAddr)>, TemplateError> {
        let zone = domain.dns_name();
        let mut all = Vec::new();
        for name in self.nameservers.iter().filter(|name| name.is_within(&zone)) {
            let addresses = self.nameserver_addresses.get(name).filter(|addresses| !addresses.is_empty());
            let addresses = addresses.ok_or_else(|| TemplateError::NameserverAddress(name.clone()))?;
            all.extend(addresses.iter().map(|address| (name.clone(), *address)));
        }
        Ok(all)
    }

    /// The same content has the same key: SHA-256 of its JSON, in hex.
    pub fn key(&self) -> String {
        let json = serde_json::to_vec(self).expect("plain values become JSON");
        crate::change::content_hash(&json)
    }
}

impl Mail {
    /// The mail servers that the zone should name, where the setting says so.
    pub fn servers<'a>(&'a self, here: &'a [DnsName]) -> Option<&'a [DnsName]> {
        match self {
            Mail::Unsaid => None,
            Mail::None => Some(&[]),
            Mail::Here => Some(here),
            Mail::Elsewhere(servers) => Some(servers),
        }
    }

    pub fn words(&self) -> &'static str {
        match self {
            Mail::Unsaid => "unsaid",
            Mail::None => "none",
            Mail::Here => "here",
            Mail::Elsewhere(_) => "elsewhere",
        }
    }
}

impl TemplateName {
    /// 1 to 40 lower-case letters, digits and hyphens: it becomes the name of a file.
    pub fn parse(text: &str) -> Result<Self, String> {
        let sound = |byte: u8| byte.is_ascii_lowercase() || byte.is_ascii_digit() || byte == b'-';
        if (1..=40).contains(&text.len()) && text.bytes().all(sound) && !text.starts_with('-') {
            return Ok(Self(text.to_string()));
        }
        let shown: String = text.chars().take(60).flat_map(char::escape_default).collect();
        Err(format!("`{shown}` is not a template name: 1 to 40 lower-case letters, digits or hyphens"))
    }

    pub fn is_default(&self) -> bool {
        self.0 == "default"
    }
}

impl Default for TemplateName {
    fn default() -> Self {
        Self("default".into())
    }
}

impl fmt::Display for TemplateName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

impl std::str::FromStr for TemplateName {
    type Err = String;
    fn from_str(text: &str) -> Result<Self, String> {
        Self::parse(text)
    }
}

impl TryFrom<String> for TemplateName {
    type Error = String;
    fn try_from(text: String) -> Result<Self, String> {
        Self::parse(&text)
    }
}

impl From<TemplateName> for String {
    fn from(name: TemplateName) -> String {
        name.0
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn settings() -> Settings {
        let mut settings = Settings::default();
        settings.host.nameservers = vec![DnsName::absolute("ns1.saltmarsh.example").unwrap()];
        settings.host.addresses = vec!["192.0.2.10".parse().unwrap()];
        settings
    }

    fn choice<'a>(mail: &'a Mail, template: &'a TemplateName) -> PatternChoice<'a> {
        PatternChoice { template, file: None, mail, nameserver_set: None, without_addresses: false }
    }

    #[test]
    fn the_same_values_have_the_same_key() {
        let (mail, name) = (Mail::None, TemplateName::default());
        let pattern = Pattern::of(&choice(&mail, &name), &settings()).unwrap();
        assert_eq!(pattern.hostmaster.bare(), "hostmaster.saltmarsh.example");
        assert_eq!(pattern.key(), Pattern::of(&choice(&mail, &name), &settings()).unwrap().key());
        let other = Pattern { mail: Mail::Unsaid, ..pattern.clone() };
        assert_ne!(pattern.key(), other.key());
        let again: Pattern = serde_json::from_str(&serde_json::to_string(&pattern).unwrap()).unwrap();
        assert_eq!(again, pattern);
    }

    #[test]
    fn what_the_settings_lack_is_named() {
        let name = TemplateName::default();
        let with = |mail: &Mail, set: Option<&str>, template: &TemplateName| {
            let choice = PatternChoice { template, file: None, mail, nameserver_set: set, without_addresses: false };
            Pattern::of(&choice, &settings()).unwrap_err()
        };
        assert_eq!(with(&Mail::Here, None, &name), PatternError::NoMailServers);
        assert_eq!(with(&Mail::None, Some("quay"), &name), PatternError::UnknownSet("quay".into()));
        let shop = TemplateName::parse("shop").unwrap();
        assert_eq!(with(&Mail::None, None, &shop), PatternError::UnknownTemplate(shop.clone()));
        let none = Pattern::of(&choice(&Mail::None, &name), &Settings::default());
        assert_eq!(none.unwrap_err(), PatternError::NoNameservers);
        for wrong in ["", "../x", "A", "-x", &"a".repeat(41)] {
            assert!(TemplateName::parse(wrong).is_err(), "{wrong}");
        }
    }
}

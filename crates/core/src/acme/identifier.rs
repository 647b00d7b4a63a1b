//! What a certificate is ordered for (RFC 8555 section 9.7.7, RFC 8738): a name, all names one label below it, or an
//! address.

use std::fmt;

use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

use crate::name::{Host, Hostname};

/// One entry of an order.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(into = "String", try_from = "String")]
pub struct Identifier {
    /// For a wildcard, the name below which it stands.
    pub name: Host,
    pub wildcard: bool,
}

impl Identifier {
    /// `*.NAME`: all names one label below it.
    pub fn below(name: &Hostname) -> Self {
        Self { name: name.into(), wildcard: true }
    }

    /// As it stands in an order.
    pub(super) fn value(&self) -> Value {
        match self.name.address() {
            Some(address) => json!({ "type": "ip", "value": address.to_string() }),
            None => json!({ "type": "dns", "value": self.to_string() }),
        }
    }

    /// As an authorization gives it back: a wildcard without its `*.` (RFC 8555 section 7.1.4).
    pub(super) fn of_authorization(value: &str, wildcard: bool) -> Option<Self> {
        Some(Self { name: Host::parse(value).ok()?, wildcard })
    }
}

impl From<Host> for Identifier {
    fn from(name: Host) -> Self {
        Self { name, wildcard: false }
    }
}

impl From<Identifier> for String {
    fn from(identifier: Identifier) -> Self {
        identifier.to_string()
    }
}

impl TryFrom<String> for Identifier {
    type Error = crate::name::HostnameError;

    fn try_from(text: String) -> Result<Self, Self::Error> {
        match text.strip_prefix("*.") {
            Some(parent) => Ok(Self { name: Hostname::parse(parent)?.into(), wildcard: true }),
            None => Ok(Self { name: Host::parse(&text)?, wildcard: false }),
        }
    }
}

impl fmt::Display for Identifier {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}{}", if self.wildcard { "*." } else { "" }, self.name)
    }
}

/// What an order names: a name that a wildcard of the same order covers is not named again, as CAs refuse that.
pub fn identifiers(names: &[Host], wildcards: &[Hostname]) -> Vec<Identifier> {
    let covered = |name: &&Host| {
        let parent = name.name().and_then(|name| name.as_str().split_once('.')).map(|(_, parent)| parent);
        wildcards.iter().any(|wildcard| Some(wildcard.as_str()) == parent)
    };
    let plain = names.iter().filter(|name| !covered(name)).cloned().map(Identifier::from);
    plain.chain(wildcards.iter().map(Identifier::below)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn names(texts: &[&str]) -> Vec<Host> {
        texts.iter().map(|text| Host::parse(text).unwrap()).collect()
    }

    #[test]
    fn a_wildcard_stands_for_the_names_below_it_and_not_for_itself() {
        let all = identifiers(
            &names(&["gullrock.example", "www.gullrock.example"]),
            &[Hostname::parse("gullrock.example").unwrap()],
        );
        let texts: Vec<String> = all.iter().map(ToString::to_string).collect();
        assert_eq!(texts, ["gullrock.example", "*.gullrock.example"]);
        let read: Vec<Identifier> = texts.into_iter().map(|text| text.try_into().unwrap()).collect();
        assert_eq!(read, all);
    }

    #[test]
    fn addresses_are_of_their_own_type() {
        let value = |text: &str| Identifier::from(Host::parse(text).unwrap()).value();
        assert_eq!(value("192.0.2.80"), json!({ "type": "ip", "value": "192.0.2.80" }));
        assert_eq!(value("[2001:db8::80]"), json!({ "type": "ip", "value": "2001:db8::80" }));
        assert_eq!(identifiers(&names(&["192.0.2.80"]), &[Hostname::parse("0.2.80.example").unwrap()]).len(), 2);
    }
}

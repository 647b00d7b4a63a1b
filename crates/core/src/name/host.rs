//! The host of a request: a name, or an address in place of one (RFC 3986 section 3.2.2).
//!
//! A site without a name is asked for by its address. What has a zone, a registrar or a twin is a `hostname` alone.

use std::fmt;
use std::net::IpAddr;

use serde::{Deserialize, Serialize};

use super::{DnsName, Hostname, HostnameError};

/// What a site is asked for by.
#[derive(Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub enum Host {
    Name(Hostname),
    Address(HostAddress),
}

/// An address as it stands in a URL: IPv6 in brackets.
#[derive(Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct HostAddress {
    address: IpAddr,
    text: String,
}

impl Host {
    /// Reads a name, or an address with or without the brackets of a URL.
    ///
    /// ```
    /// use brightharbor_core::name::Host;
    /// assert!(Host::parse("Gullrock.example").unwrap().name().is_some());
    /// assert_eq!(Host::parse("2001:db8::7").unwrap().as_str(), "[2001:db8::7]");
    /// ```
    pub fn parse(text: &str) -> Result<Self, HostnameError> {
        match address_in(text.trim()) {
            Some(address) => Ok(address.into()),
            None => Hostname::parse(text).map(Host::Name),
        }
    }

    pub fn name(&self) -> Option<&Hostname> {
        match self {
            Host::Name(name) => Some(name),
            Host::Address(_) => None,
        }
    }

    pub fn address(&self) -> Option<IpAddr> {
        match self {
            Host::Name(_) => None,
            Host::Address(literal) => Some(literal.address),
        }
    }

    pub fn as_str(&self) -> &str {
        match self {
            Host::Name(name) => name.as_str(),
            Host::Address(literal) => &literal.text,
        }
    }

    /// A name as a reader of its script knows it; an address as it is.
    pub fn international(&self) -> String {
        match self {
            Host::Name(name) => name.international(),
            Host::Address(literal) => literal.text.clone(),
        }
    }

    /// The name as the DNS has it; an address has none.
    pub fn dns_name(&self) -> Option<DnsName> {
        self.name().map(Hostname::dns_name)
    }

    /// See [`Hostname::with_www`]; an address has no twin.
    pub fn with_www(&self) -> Option<Host> {
        self.name().and_then(Hostname::with_www).map(Host::Name)
    }

    /// See [`Hostname::without_www`].
    pub fn without_www(&self) -> Option<Host> {
        self.name().and_then(Hostname::without_www).map(Host::Name)
    }
}

/// An address, bare or in the brackets of a URL.
pub(super) fn address_in(text: &str) -> Option<IpAddr> {
    text.strip_prefix('[').and_then(|text| text.strip_suffix(']')).unwrap_or(text).parse().ok()
}

/// The names among hosts.
pub fn names_of<'a>(hosts: impl IntoIterator<Item = &'a Host>) -> Vec<Hostname> {
    hosts.into_iter().filter_map(Host::name).cloned().collect()
}

impl From<Hostname> for Host {
    fn from(name: Hostname) -> Self {
        Host::Name(name)
    }
}

impl From<&Hostname> for Host {
    fn from(name: &Hostname) -> Self {
        Host::Name(name.clone())
    }
}

impl From<IpAddr> for Host {
    fn from(address: IpAddr) -> Self {
        let text = match address {
            IpAddr::V4(address) => address.to_string(),
            IpAddr::V6(address) => format!("[{address}]"),
        };
        Host::Address(HostAddress { address, text })
    }
}

impl PartialEq<Hostname> for Host {
    fn eq(&self, other: &Hostname) -> bool {
        self.name() == Some(other)
    }
}

impl PartialEq<Host> for Hostname {
    fn eq(&self, other: &Host) -> bool {
        other == self
    }
}

impl fmt::Display for Host {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.as_str())
    }
}

impl fmt::Debug for Host {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.as_str())
    }
}

impl std::str::FromStr for Host {
    type Err = HostnameError;
    fn from_str(text: &str) -> Result<Self, HostnameError> {
        Self::parse(text)
    }
}

impl TryFrom<String> for Host {
    type Error = HostnameError;
    fn try_from(text: String) -> Result<Self, HostnameError> {
        Self::parse(&text)
    }
}

impl From<Host> for String {
    fn from(host: Host) -> String {
        host.as_str().to_string()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_address_in_place_of_a_name_has_no_relatives() {
        for (text, shown) in [("192.0.2.7", "192.0.2.7"), ("2001:DB8::7", "[2001:db8::7]"), ("[::1]", "[::1]")] {
            let host = Host::parse(text).unwrap();
            assert_eq!((host.as_str(), Host::try_from(String::from(host.clone()))), (shown, Ok(host.clone())));
            assert_eq!((host.name(), host.with_www(), host.without_www()), (None, None, None));
            assert!(host.address().is_some() && Hostname::parse(text).is_err());
        }
        let named = Host::parse("gullrock.example").unwrap();
        assert_eq!((named.address(), named.name().map(Hostname::as_str)), (None, Some("gullrock.example")));
        assert_eq!(named.with_www().map(String::from).as_deref(), Some("www.gullrock.example"));
    }
}

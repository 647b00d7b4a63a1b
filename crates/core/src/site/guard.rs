//! Paths of a site that not everybody may see: for users with a password, for networks, or for both together. The decision
//! to change that is in `protect`; the servers' files are in `render`.

use std::fmt;
use std::net::IpAddr;

use serde::{Deserialize, Serialize};

/// A path with what lies below it. The longest one that has a path counts for it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct Guard {
    /// `/`, or a path without a slash at its end.
    pub path: String,
    /// The names of those who have a password; without any, none is asked for.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub users: Vec<String>,
    /// Where visitors may come from; from anywhere when empty.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub from: Vec<Network>,
}

/// An address, or all that have its first bits.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Network {
    address: IpAddr,
    length: u8,
}

#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum GuardError {
    #[error("`{0}` is not a network: an address, or one with the number of its first bits, such as 192.0.2.0/24")]
    Network(String),
    #[error("`{0}` is not a name for a user: letters, digits, and `. _ - @`, at most 64")]
    User(String),
}

impl Network {
    /// ```
    /// use brightharbor_core::site::Network;
    /// assert_eq!(Network::parse("192.0.2.0/24").unwrap().to_string(), "192.0.2.0/24");
    /// assert_eq!(Network::parse("2001:db8::7").unwrap().to_string(), "2001:db8::7");
    /// assert!(Network::parse("192.0.2.7/24").is_err(), "bits behind the first are set");
    /// ```
    pub fn parse(text: &str) -> Result<Self, GuardError> {
        let wrong = || GuardError::Network(text.chars().take(60).flat_map(char::escape_default).collect());
        let (address, length) = text.split_once('/').map_or((text, None), |(address, length)| (address, Some(length)));
        let address: IpAddr = address.parse().map_err(|_| wrong())?;
        let most = if address.is_ipv4() { 32 } else { 128 };
        let length = length.map_or(Ok(most), |length| length.parse::<u8>().map_err(|_| wrong()))?;
        let bits = match address {
            IpAddr::V4(address) => u128::from(u32::from(address)) << 96,
            IpAddr::V6(address) => u128::from(address),
        };
        let behind = bits.checked_shl(length.into()).unwrap_or(0);
        match length <= most && behind == 0 {
            true => Ok(Self { address, length }),
            false => Err(wrong()),
        }
    }
}

impl fmt::Display for Network {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match (self.address, self.length) {
            (IpAddr::V4(address), 32) => write!(f, "{address}"),
            (IpAddr::V6(address), 128) => write!(f, "{address}"),
            (address, length) => write!(f, "{address}/{length}"),
        }
    }
}

impl TryFrom<String> for Network {
    type Error = GuardError;
    fn try_from(text: String) -> Result<Self, GuardError> {
        Self::parse(&text)
    }
}

impl From<Network> for String {
    fn from(network: Network) -> Self {
        network.to_string()
    }
}

/// A name that stands before a colon in a file of passwords.
pub fn check_user(name: &str) -> Result<(), GuardError> {
    let fits = |c: char| c.is_ascii_alphanumeric() || "._-@".contains(c);
    match !name.is_empty() && name.len() <= 64 && name.chars().all(fits) {
        true => Ok(()),
        false => Err(GuardError::User(name.chars().take(64).flat_map(char::escape_default).collect())),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn networks_and_names_are_what_servers_read_alike() {
        for good in ["192.0.2.1", "0.0.0.0/0", "2001:db8::/32", "::/0", "2001:db8::1/128"] {
            assert!(Network::parse(good).is_ok(), "{good}");
        }
        for bad in
            ["", "192.0.2.0/33", "192.0.2.1/24", "2001:db8::1/64", "boats.example", "192.0.2.0/", "all", "::/129"]
        {
            assert!(Network::parse(bad).is_err(), "{bad}");
        }
        assert!(check_user("anna.b-1@quay").is_ok());
        assert!(["", "a:b", "a b", "ä", &"x".repeat(65)].iter().all(|name| check_user(name).is_err()));
    }
}

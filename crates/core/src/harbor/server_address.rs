//! The address of a server with or without a port, as it stands in settings.

use std::net::{IpAddr, SocketAddr};

use serde::{Deserialize, Serialize};

/// `ADDRESS` or `ADDRESS:PORT`, an IPv6 address with a port in brackets.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct ServerAddress {
    pub address: IpAddr,
    pub port: Option<u16>,
}

impl ServerAddress {
    pub fn socket(&self, default_port: u16) -> SocketAddr {
        SocketAddr::new(self.address, self.port.unwrap_or(default_port))
    }
}

impl std::str::FromStr for ServerAddress {
    type Err = String;
    fn from_str(text: &str) -> Result<Self, String> {
        if let Ok(address) = text.parse() {
            return Ok(Self { address, port: None });
        }
        text.parse::<SocketAddr>()
            .map(|socket| Self { address: socket.ip(), port: Some(socket.port()) })
            .map_err(|_| format!("`{text}` is not ADDRESS or ADDRESS:PORT (IPv6 as [ADDRESS]:PORT)"))
    }
}

impl TryFrom<String> for ServerAddress {
    type Error = String;
    fn try_from(text: String) -> Result<Self, String> {
        text.parse()
    }
}

impl From<ServerAddress> for String {
    fn from(server: ServerAddress) -> String {
        match server.port {
            Some(port) => SocketAddr::new(server.address, port).to_string(),
            None => server.address.to_string(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn with_and_without_port() {
        let read = |text: &str| text.parse::<ServerAddress>().map(|server| server.socket(53).to_string());
        assert_eq!(read("192.0.2.1").unwrap(), "192.0.2.1:53");
        assert_eq!(read("192.0.2.1:5300").unwrap(), "192.0.2.1:5300");
        assert_eq!(read("2001:db8::1").unwrap(), "[2001:db8::1]:53");
        assert_eq!(read("[2001:db8::1]:5300").unwrap(), "[2001:db8::1]:5300");
        assert!(read("ns1.saltmarsh.example").is_err());
    }
}

//! A delegation.

use brightharbor_core::delegation::{Picture, ServerState};
use brightharbor_core::finding::Finding;
use brightharbor_core::name::DnsName;
use serde::Serialize;

#[derive(Serialize)]
pub struct FindingDocument {
    code: &'static str,
    severity: &'static str,
    waiting_until: Option<String>,
    subject: String,
    message: String,
    cure: String,
}

impl From<&Finding> for FindingDocument {
    fn from(finding: &Finding) -> Self {
        Self {
            code: finding.code,
            severity: finding.word(),
            waiting_until: finding.waits_until.map(|until| until.to_string()),
            subject: finding.subject.clone(),
            message: finding.message.clone(),
            cure: finding.cure.clone(),
        }
    }
}

#[derive(Serialize)]
pub struct NameserverDocument {
    name: String,
    glue: Vec<String>,
    addresses: Vec<String>,
    servers: Vec<ServerDocument>,
}

#[derive(Serialize)]
struct ServerDocument {
    address: String,
    state: &'static str,
    serial: Option<u32>,
    nameservers: Vec<String>,
}

/// Every nameserver of the delegation.
pub fn nameservers(picture: &Picture) -> Vec<NameserverDocument> {
    let seen = picture.nameservers.iter();
    seen.map(|seen| NameserverDocument {
        name: seen.name.bare(),
        glue: seen.glue.iter().map(ToString::to_string).collect(),
        addresses: seen.addresses.iter().map(ToString::to_string).collect(),
        servers: seen.servers.iter().map(|server| server_document(server.address, &server.state)).collect(),
    })
    .collect()
}

fn server_document(address: std::net::SocketAddr, state: &ServerState) -> ServerDocument {
    let (word, serial, names): (_, _, &[DnsName]) = match state {
        ServerState::Authoritative { serial, nameservers } => ("authoritative", Some(*serial), nameservers),
        ServerState::NotAuthoritative => ("not-authoritative", None, &[]),
        ServerState::Refuses { .. } => ("refuses", None, &[]),
        ServerState::Silent => ("silent", None, &[]),
        ServerState::Unreachable { .. } => ("unreachable", None, &[]),
        ServerState::NoRoute => ("no-route", None, &[]),
        ServerState::Garbled { .. } => ("garbled", None, &[]),
        ServerState::OutOfPlace { .. } => ("out-of-place", None, &[]),
    };
    let nameservers = names.iter().map(DnsName::bare).collect();
    ServerDocument { address: address.to_string(), state: word, serial, nameservers }
}

//! A delegation.

use brightharbor_core::delegation::{Chain, Picture, Registered, ServerState, compare};
use brightharbor_core::finding::Finding;
use brightharbor_core::name::DnsName;
use serde::Serialize;

use crate::judging::Checked;

#[derive(Serialize)]
pub struct FindingDocument {
    code: &'static str,
    severity: &'static str,
    waiting_until: Option<String>,
    subject: String,
    message: String,
    cure: String,
    /// What comes of it, and goes with it.
    follows: Vec<FindingDocument>,
    /// Where it stands in a file, from 1.
    line: Option<usize>,
    column: Option<usize>,
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
            follows: finding.follows.iter().map(FindingDocument::from).collect(),
            line: finding.place.map(|place| place.line),
            column: finding.place.map(|place| place.column),
        }
    }
}

/// One domain: what was seen, what is expected, and what is wrong.
#[derive(Serialize)]
pub struct DelegationDocument {
    domain: String,
    verdict: &'static str,
    /// `None`: it could not be found out.
    registered: Option<bool>,
    parent: String,
    delegated_to: Vec<String>,
    expected: Vec<String>,
    ds: Vec<String>,
    chain: ChainDocument,
    findings: Vec<FindingDocument>,
    nameservers: Vec<NameserverDocument>,
    comparison: Vec<ComparedDocument>,
    questions: usize,
    seen_at: Option<String>,
}

/// What validation makes of the way down from the root; `zone` is where it ends before the domain's own records.
#[derive(Serialize)]
struct ChainDocument {
    state: &'static str,
    zone: Option<String>,
    reason: Option<String>,
}

impl From<&Chain> for ChainDocument {
    fn from(chain: &Chain) -> Self {
        let (state, zone, reason) = match chain {
            Chain::Unasked => ("unasked", None, None),
            Chain::Unanchored => ("unanchored", None, None),
            Chain::Secure => ("secure", None, None),
            Chain::Insecure { zone } => ("insecure", Some(zone.to_string()), None),
            Chain::Broken { zone, why } => ("broken", Some(zone.to_string()), Some(why.clone())),
            Chain::NotSeen { why } => ("not-seen", None, Some(why.clone())),
        };
        Self { state, zone, reason }
    }
}

/// What parent, zone and nameservers each say about one thing.
#[derive(Serialize)]
struct ComparedDocument {
    what: String,
    parent: String,
    zone: String,
    servers: Vec<String>,
}

impl From<&Checked> for DelegationDocument {
    fn from(one: &Checked) -> Self {
        let Checked { picture, findings, wanted, verdict } = one;
        let compared = compare(picture, &wanted.nameservers).into_iter();
        Self {
            domain: picture.domain.bare(),
            verdict: verdict.word(),
            registered: match &picture.registered {
                Registered::Yes => Some(true),
                Registered::No => Some(false),
                Registered::Unknown(_) => None,
            },
            parent: picture.parent_zone.to_string(),
            delegated_to: picture.delegated_names().iter().map(DnsName::bare).collect(),
            expected: wanted.nameservers.iter().map(DnsName::bare).collect(),
            ds: picture.ds.iter().map(|ds| ds.text()).collect(),
            chain: ChainDocument::from(&picture.chain),
            findings: findings.iter().map(FindingDocument::from).collect(),
            nameservers: nameservers(picture),
            comparison: compared
                .map(|line| ComparedDocument {
                    what: line.what,
                    parent: line.parent,
                    zone: line.zone,
                    servers: line.servers,
                })
                .collect(),
            questions: picture.questions,
            seen_at: picture.seen_at.map(|at| at.to_string()),
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
fn nameservers(picture: &Picture) -> Vec<NameserverDocument> {
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
        ServerState::NoSuchDomain => ("no-such-domain", None, &[]),
        ServerState::ApexAlias { .. } => ("apex-alias", None, &[]),
        ServerState::OtherZone { .. } => ("other-zone", None, &[]),
        ServerState::Refuses { rcode } if rcode == "SERVFAIL" => ("fails", None, &[]),
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

//! What a walk is to find out, and within which bounds.

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::Arc;

use super::Ds;
use crate::name::DnsName;

/// Zones with the servers that were found for them.
pub type Cuts = BTreeMap<DnsName, Vec<SocketAddr>>;

/// What is to be found out.
#[derive(Debug, Clone)]
pub struct Brief {
    pub domain: DnsName,
    pub roots: Vec<SocketAddr>,
    /// The port that nameservers are asked at.
    pub dns_port: u16,
    /// Hostnames of the domain whose addresses each nameserver is asked for.
    pub hostnames: Vec<DnsName>,
    /// No more questions than this, all told.
    pub most_questions: usize,
    /// Whether everything is asked that the rules judge, or only what tells who answers for the hostnames.
    pub thorough: bool,
    /// Whether signatures are verified where the parent has DS records. A thorough walk always does.
    pub validates: bool,
    /// The keys of the root that are trusted; none: the parent's DS records are taken as they come.
    pub anchors: Vec<Ds>,
    /// Cuts that are known already, with their servers: the way down starts at the nearest of them.
    pub cuts: Arc<Cuts>,
}

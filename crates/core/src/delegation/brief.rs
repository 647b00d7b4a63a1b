//! What a walk is to find out, and within which bounds.

use std::net::SocketAddr;

use crate::name::DnsName;

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
}

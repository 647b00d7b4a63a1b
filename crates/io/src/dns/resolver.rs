//! Asks recursive resolvers for the addresses of a name: what visitors behind them get now, and for how long; and
//! whether it is for the signatures that they get nothing.

use std::net::SocketAddr;

use brightharbor_core::delegation::{Address, Outcome, Question, Reply, Transport};
use brightharbor_core::name::DnsName;
use brightharbor_core::survey::Resolved;
use brightharbor_core::zone::{RecordData, RecordType};

use futures_util::future::join_all;

use super::ask;

/// The resolvers of this system, from `/etc/resolv.conf`; empty if there is none.
pub fn system_resolvers(port: u16) -> Vec<SocketAddr> {
    let text = std::fs::read_to_string("/etc/resolv.conf").unwrap_or_default();
    text.lines()
        .filter_map(|line| line.trim().strip_prefix("nameserver"))
        .filter_map(|rest| rest.trim().parse().ok())
        .map(|address| SocketAddr::new(address, port))
        .take(3)
        .collect()
}

/// Asks every resolver for the addresses of the name, all at once.
pub async fn resolve_all(resolvers: &[SocketAddr], name: &DnsName) -> Vec<Resolved> {
    join_all(resolvers.iter().map(|resolver| resolve(*resolver, name))).await
}

async fn resolve(resolver: SocketAddr, name: &DnsName) -> Resolved {
    let question = |record_type, checking_disabled| Question {
        server: resolver,
        name: name.clone(),
        record_type,
        transport: Transport::Udp,
        recursion_desired: true,
        with_signatures: false,
        checking_disabled,
    };
    let (a, aaaa) = (question(RecordType::A, false), question(RecordType::AAAA, false));
    let (v4, v6) = tokio::join!(ask(&a), ask(&aaaa));
    let mut resolved = Resolved {
        resolver,
        addresses: vec![],
        no_such_name: false,
        negative_ttl: None,
        failed: None,
        answers_unchecked: false,
    };
    let fails = |outcome: &Outcome| matches!(outcome, Outcome::Reply(reply) if reply.rcode == Reply::SERVFAIL);
    let gives_up = fails(&v4.outcome) || fails(&v6.outcome);
    for outcome in [v4.outcome, v6.outcome] {
        take(&mut resolved, &outcome);
    }
    if !resolved.addresses.is_empty() {
        resolved.failed = None;
    } else if gives_up {
        // The one word for everything that went wrong: a resolver that validates uses it too (RFC 4035 section 5.5).
        let unchecked = ask(&question(RecordType::A, true)).await.outcome;
        resolved.answers_unchecked = matches!(
            unchecked,
            Outcome::Reply(reply) if matches!(reply.rcode, Reply::NOERROR | Reply::NXDOMAIN)
        );
    }
    resolved
}

fn take(resolved: &mut Resolved, outcome: &Outcome) {
    let reply = match outcome {
        Outcome::Reply(reply) if matches!(reply.rcode, Reply::NOERROR | Reply::NXDOMAIN) => reply,
        other => {
            resolved.failed = Some(other.in_words());
            return;
        }
    };
    resolved.no_such_name |= reply.rcode == Reply::NXDOMAIN;
    for record in &reply.answer {
        if let Some(address) = record.data.address() {
            resolved.addresses.push(Address { address, ttl: record.ttl });
        }
    }
    let negative = reply.authority.iter().find_map(|record| match &record.data {
        RecordData::Soa(soa) => Some(soa.negative_ttl.min(record.ttl)),
        _ => None,
    });
    resolved.negative_ttl = resolved.negative_ttl.max(negative);
}

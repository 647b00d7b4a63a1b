//! What one nameserver says about a hostname of the domain: addresses, aliases, or that there is no such name. `question`
//! says which servers are asked.

use std::net::SocketAddr;

use super::walk::Walk;
use super::{Address, HostAnswer, Outcome, Reply};
use crate::name::DnsName;
use crate::zone::{RecordData, RecordType};

pub(super) fn host_answer(walk: &mut Walk<'_>, server: SocketAddr, hostname: &DnsName) -> Option<HostAnswer> {
    let v4 = walk.ask(server, hostname, RecordType::A);
    let v6 = walk.ask(server, hostname, RecordType::AAAA);
    let (v4, v6) = (v4?, v6?);
    let mut answer = HostAnswer {
        hostname: hostname.clone(),
        addresses: vec![],
        aliases: vec![],
        no_such_name: false,
        negative_ttl: None,
    };
    for outcome in [v4, v6] {
        let Outcome::Reply(reply) = outcome else {
            continue;
        };
        answer.no_such_name |= reply.rcode == Reply::NXDOMAIN;
        for record in &reply.answer {
            if let Some(address) = record.data.address() {
                answer.addresses.push(Address { address, ttl: record.ttl });
            }
            if let RecordData::Cname(target) = &record.data
                && !answer.aliases.contains(target)
            {
                answer.aliases.push(target.clone());
            }
        }
        for record in &reply.authority {
            if let RecordData::Soa(soa) = &record.data {
                // RFC 2308 section 5: the lesser of the two.
                answer.negative_ttl = Some(soa.negative_ttl.min(record.ttl));
            }
        }
    }
    answer.addresses.sort();
    answer.addresses.dedup();
    Some(answer)
}

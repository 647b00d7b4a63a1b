//! Asks for the CAA records of names (RFC 8659 section 3): from the name upwards, the nearest record set counts.

use std::net::SocketAddr;

use brightharbor_core::acme::{Identifier, Machine, ProofKind};
use brightharbor_core::certificate::caa::{CAA, CaNamed, allowed};
use brightharbor_core::delegation::{Outcome, Question, Transport};
use brightharbor_core::name::DnsName;
use brightharbor_core::site::ProofWish;
use brightharbor_core::zone::Record;
use futures_util::future::join_all;

use super::order::OrderPlan;
use super::session::Session;
use crate::dns::ask;

/// What CAA records forbid, with the reason. What cannot be looked up is left to the CA.
pub(super) async fn forbidden(session: &Session, plan: &OrderPlan<'_>, machine: &Machine) -> Vec<(Identifier, String)> {
    let told = machine.directory().map(|directory| directory.meta.caa_identities.clone()).unwrap_or_default();
    let identities = if session.ca.caa_identities.is_empty() { told } else { session.ca.caa_identities.clone() };
    let ca = CaNamed { identities: &identities, account: machine.account() };
    let judged = machine.brief().identifiers().into_iter().map(|identifier| async move {
        let by_dns = identifier.wildcard || plan.wish.proof == ProofWish::Dns01;
        let proof = if by_dns { ProofKind::Dns01 } else { ProofKind::Http01 };
        let records = nearest(plan.resolvers, &identifier).await?;
        allowed(&records, &identifier, proof, ca).err().map(|reason| (identifier, reason))
    });
    join_all(judged).await.into_iter().flatten().collect()
}

async fn nearest(resolvers: &[SocketAddr], identifier: &Identifier) -> Option<Vec<Record>> {
    if identifier.name.address().is_some() {
        return None;
    }
    let labels: Vec<&str> = identifier.name.as_str().split('.').collect();
    for first in 0..labels.len() {
        let name = DnsName::absolute(&labels[first..].join(".")).ok()?;
        let records = records_at(resolvers, &name).await?;
        if !records.is_empty() {
            return Some(records);
        }
    }
    None
}

/// The CAA records at a name, or at what it is an alias of; `None` where no resolver says.
async fn records_at(resolvers: &[SocketAddr], name: &DnsName) -> Option<Vec<Record>> {
    for resolver in resolvers {
        let question = Question {
            server: *resolver,
            name: name.clone(),
            record_type: CAA,
            transport: Transport::Udp,
            recursion_desired: true,
        };
        if let Outcome::Reply(reply) = ask(&question).await.outcome
            && matches!(reply.rcode, 0 | 3)
        {
            return Some(reply.answer.into_iter().filter(|record| record.record_type() == CAA).collect());
        }
    }
    None
}

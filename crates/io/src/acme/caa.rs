//! Asks for the CAA records of names (RFC 8659 section 3): from the name upwards, the nearest record set counts.
//!
//! The authoritative servers are asked, as the CA does: a cache may hold the answer of before the last edit. Above the
//! registrable domain nothing is asked: what registries publish there is left to the CA.

use std::net::SocketAddr;

use brightharbor_core::acme::{Brief, Identifier};
use brightharbor_core::certificate::caa::{CAA, CaNamed, allowed};
use brightharbor_core::delegation::{Outcome, Question, Reply};
use brightharbor_core::harbor::Settings;
use brightharbor_core::name::{DnsName, Hostname, registrable_domain};
use brightharbor_core::zone::{Record, RecordData};

use super::order::OrderPlan;
use super::session::Session;
use crate::dns::{ask, walk};
use crate::survey::{brief, domain_of};

/// CAs follow a few as well (RFC 8659 section 3).
const MOST_ALIASES: usize = 4;

/// What CAA records forbid, with the reason. What cannot be looked up is left to the CA.
pub(super) async fn forbidden(session: &Session, plan: &OrderPlan<'_>, brief: &Brief) -> Vec<(Identifier, String)> {
    let told = session.directory().map(|directory| directory.meta.caa_identities).unwrap_or_default();
    let identities = if session.ca.caa_identities.is_empty() { told } else { session.ca.caa_identities.clone() };
    let account = session.folder.account_url();
    let ca = CaNamed { identities: &identities, account: account.as_deref() };
    let mut asked = Asked { settings: plan.settings, domains: plan.servers.to_vec() };
    let mut failed = Vec::new();
    for identifier in brief.identifiers() {
        let proof = plan.wish.proof.kind_for(&identifier);
        let records = asked.nearest(&identifier.name).await;
        if let Err(reason) = allowed(&records, &identifier, proof, ca) {
            failed.push((identifier, reason));
        }
    }
    failed
}

/// The servers of the domains that were asked about.
struct Asked<'a> {
    settings: &'a Settings,
    domains: Vec<(Hostname, Vec<SocketAddr>)>,
}

impl Asked<'_> {
    async fn nearest(&mut self, name: &Hostname) -> Vec<Record> {
        let (None, Some(domain)) = (name.address(), registrable_domain(name)) else { return vec![] };
        let above = name.as_str().len() - domain.as_str().len();
        let starts = name.as_str()[..above].match_indices('.').map(|(at, _)| at + 1);
        for start in [0].into_iter().chain(starts) {
            let Ok(at) = DnsName::absolute(&name.as_str()[start..]) else { return vec![] };
            let records = self.records_at(at).await;
            if !records.is_empty() {
                return records;
            }
        }
        vec![]
    }

    /// The CAA records at a name, or at what it is an alias of.
    async fn records_at(&mut self, mut name: DnsName) -> Vec<Record> {
        for _ in 0..MOST_ALIASES {
            let Some(reply) = self.reply(&name).await else { return vec![] };
            let alias = reply.answer.iter().rev().find_map(|record| match &record.data {
                RecordData::Cname(target) => Some(target.clone()),
                _ => None,
            });
            let records: Vec<Record> = reply.answer.into_iter().filter(|record| record.record_type() == CAA).collect();
            match alias.filter(|_| records.is_empty()) {
                Some(target) => name = target,
                None => return records,
            }
        }
        vec![]
    }

    async fn reply(&mut self, name: &DnsName) -> Option<Reply> {
        for server in self.servers(name).await? {
            if let Outcome::Reply(reply) = ask(&Question::authoritative(server, name, CAA)).await.outcome
                && reply.authoritative
            {
                return Some(reply);
            }
        }
        None
    }

    async fn servers(&mut self, name: &DnsName) -> Option<Vec<SocketAddr>> {
        let domain = domain_of(name)?;
        if let Some((_, servers)) = self.domains.iter().find(|(known, _)| *known == domain) {
            return Some(servers.clone());
        }
        let picture = walk(&brief(self.settings, &domain, &[])).await;
        let servers: Vec<SocketAddr> = picture.authoritative_servers().map(|(_, server)| server.address).collect();
        self.domains.push((domain, servers.clone()));
        Some(servers)
    }
}

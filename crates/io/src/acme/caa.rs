//! Asks for the CAA records of names (RFC 8659 section 3), one after the other as `certificate::CaaClimb` says.
//!
//! The authoritative servers are asked, as the CA does: a cache may hold the answer of before the last edit. What
//! registries publish above the registrable domain is asked once for the length of a command.

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::{Mutex, PoisonError};

use brightharbor_core::acme::{Brief, Identifier};
use brightharbor_core::certificate::caa::{CAA, CaNamed, allowed};
use brightharbor_core::certificate::{CaaClimb, ProofWish};
use brightharbor_core::delegation::{Cuts, Outcome, Question, Reply};
use brightharbor_core::harbor::{Ca, Layout, Settings};
use brightharbor_core::name::{DnsName, Host, domain_above};
use brightharbor_core::zone::Record;

use super::order::OrderPlan;
use super::session::{CaFolder, Session};
use super::wire::fetch_directory;
use crate::dns::{ask, walk};
use crate::survey::brief;

/// What was found above registrable domains.
#[derive(Default)]
pub(super) struct FoundAbove(Mutex<BTreeMap<DnsName, Option<Vec<Record>>>>);

/// What CAA records forbid, with the reason. What cannot be looked up is left to the CA.
pub(super) async fn forbidden(session: &Session, plan: &OrderPlan<'_>, brief: &Brief) -> Vec<(Identifier, String)> {
    let told = session.directory().map(|directory| directory.meta.caa_identities).unwrap_or_default();
    let identities = if session.ca.caa_identities.is_empty() { told } else { session.ca.caa_identities.clone() };
    let account = session.folder.account_url();
    let ca = CaNamed { identities: &identities, account: account.as_deref() };
    let mut asked = Asked { settings: plan.settings, zones: plan.zones.clone(), above: &session.found_above };
    asked.forbidden(ca, plan.wish.proof, &brief.identifiers()).await
}

/// The same before anything is ordered: nothing is written, not even an account's key. The error says why the CA cannot
/// be asked for its names.
pub async fn foresee_forbidden(
    ca: &Ca,
    layout: &Layout,
    settings: &Settings,
    zones: &Cuts,
    (proof, identifiers): (ProofWish, &[Identifier]),
) -> Result<Vec<(Identifier, String)>, String> {
    let Some(url) = &ca.directory else { return Ok(vec![]) };
    let folder = CaFolder::at(layout, url);
    let told;
    let identities = if !ca.caa_identities.is_empty() {
        &ca.caa_identities
    } else {
        told = match folder.directory() {
            Some(directory) => directory,
            None => fetch_directory(ca, url).await?,
        };
        &told.meta.caa_identities
    };
    let account = folder.account_url();
    let ca = CaNamed { identities, account: account.as_deref() };
    let mut asked = Asked { settings, zones: zones.clone(), above: &FoundAbove::default() };
    Ok(asked.forbidden(ca, proof, identifiers).await)
}

/// The servers of the zones that were asked about.
struct Asked<'a> {
    settings: &'a Settings,
    zones: Cuts,
    above: &'a FoundAbove,
}

impl Asked<'_> {
    async fn forbidden(
        &mut self,
        ca: CaNamed<'_>,
        proof: ProofWish,
        identifiers: &[Identifier],
    ) -> Vec<(Identifier, String)> {
        let mut failed = Vec::new();
        for identifier in identifiers {
            let records = self.nearest(&identifier.name).await;
            if let Err(reason) = allowed(&records, identifier, proof.kind_for(identifier), ca) {
                failed.push((identifier.clone(), reason));
            }
        }
        failed
    }

    /// The record set that counts for the name.
    async fn nearest(&mut self, name: &Host) -> Vec<Record> {
        let mut climb = CaaClimb::new(name);
        while let Some(asked) = climb.next().cloned() {
            let answer = match domain_above(&asked) {
                Some(_) => self.reply(&asked).await.map(|reply| reply.answer),
                None => self.answer_above(&asked).await,
            };
            climb.answered(answer.as_deref());
        }
        climb.found()
    }

    async fn answer_above(&mut self, name: &DnsName) -> Option<Vec<Record>> {
        let above = self.above;
        let known = above.0.lock().unwrap_or_else(PoisonError::into_inner).get(name).cloned();
        if let Some(answer) = known {
            return answer;
        }
        let answer = self.reply(name).await.map(|reply| reply.answer);
        above.0.lock().unwrap_or_else(PoisonError::into_inner).insert(name.clone(), answer.clone());
        answer
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

    /// The servers of the nearest zone above the name. Registries' zones are known from the way down to the domain.
    async fn servers(&mut self, name: &DnsName) -> Option<Vec<SocketAddr>> {
        if let Some(domain) = domain_above(name)
            && !self.zones.contains_key(&domain.dns_name())
        {
            self.zones.extend(walk(&brief(self.settings, &domain, &[])).await.zones());
        }
        let mut at = Some(name.clone());
        while let Some(zone) = at.filter(|zone| !zone.is_root()) {
            if let Some(servers) = self.zones.get(&zone) {
                return Some(servers.clone());
            }
            at = zone.parent();
        }
        None
    }
}

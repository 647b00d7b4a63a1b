//! The rules that judge a zone: one file each, with its texts beside its check.
//!
//! A `fault` is what a primary server refuses to load; a `risk` loads and hurts. A check reads the indexed zone; it
//! asks nothing. `tests` reads this folder and fails if a rule is not registered, has no texts, or never fires.

mod alias_beside_data;
mod alias_circle;
mod alias_to_nothing;
mod apex_nameserver_without_address;
mod ca_forbidden;
mod child_keys_disagree;
mod cut_without_address;
mod dmarc_syntax;
mod dot_forgotten;
mod ds_at_apex;
mod former_address;
mod glue_missing_in_zone;
mod hidden_by_delegation;
mod leftover_placeholder;
mod mail_not_as_set;
mod mail_server_unusable;
mod nameserver_is_address;
mod nameserver_is_alias;
mod no_nameserver;
mod null_mx_beside_others;
mod out_of_zone;
mod owner_not_a_hash;
mod owner_not_a_hostname;
mod private_address;
mod repeated_zone_name;
mod second_dname;
mod service_target_without_address;
mod set_too_large;
mod several_spf;
mod soa_mailbox;
mod soa_times;
mod spf_allows_everybody;
mod spf_syntax;
mod target_not_a_hostname;
mod text_without_value;
mod ttl_extreme;
mod ttls_count_down;
mod ttls_differ;
mod wildcard_delegation;
mod www_without_apex;

pub use soa_times::soa_faults;

use std::net::IpAddr;
use std::sync::atomic::{AtomicUsize, Ordering};

pub use super::indexed::Indexed;
use super::{Document, Field, Record, RecordData, RecordType};
use crate::finding::{Finding, RuleText, Severity};
use crate::name::DnsName;

/// One rule: its texts, and the check that makes findings of it.
pub struct Rule {
    pub text: &'static RuleText,
    pub check: fn(&Indexed<'_>) -> Vec<Finding>,
}

/// What is known about a zone beside its records. Nothing, for a file anywhere.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Surroundings {
    /// The mail servers that the setting of the domain names; empty: it takes no mail.
    pub mail_servers: Option<Vec<DnsName>>,
    /// The names that the CA in the settings goes by in CAA records.
    pub ca_identities: Vec<String>,
    /// Addresses that sites were once served at and no longer are.
    pub former_addresses: Vec<IpAddr>,
}

/// In the order in which they are reported among findings of one severity.
pub const ALL: &[Rule] = &[
    no_nameserver::RULE,
    alias_beside_data::RULE,
    second_dname::RULE,
    owner_not_a_hostname::RULE,
    owner_not_a_hash::RULE,
    ds_at_apex::RULE,
    child_keys_disagree::RULE,
    set_too_large::RULE,
    target_not_a_hostname::RULE,
    apex_nameserver_without_address::RULE,
    nameserver_is_alias::RULE,
    nameserver_is_address::RULE,
    wildcard_delegation::RULE,
    glue_missing_in_zone::RULE,
    cut_without_address::RULE,
    hidden_by_delegation::RULE,
    repeated_zone_name::RULE,
    alias_to_nothing::RULE,
    alias_circle::RULE,
    out_of_zone::RULE,
    dot_forgotten::RULE,
    mail_server_unusable::RULE,
    null_mx_beside_others::RULE,
    mail_not_as_set::RULE,
    ca_forbidden::RULE,
    former_address::RULE,
    service_target_without_address::RULE,
    several_spf::RULE,
    spf_syntax::RULE,
    spf_allows_everybody::RULE,
    dmarc_syntax::RULE,
    leftover_placeholder::RULE,
    text_without_value::RULE,
    soa_times::RULE,
    soa_mailbox::RULE,
    ttls_count_down::RULE,
    ttls_differ::RULE,
    private_address::RULE,
    www_without_apex::RULE,
    ttl_extreme::RULE,
];

/// From so many lines on, a second thread is worth its start.
pub(super) const WORTH_TWO: usize = 20_000;

/// Everything a primary server would refuse the zone for.
pub fn judge_loading(zone: &Document) -> Vec<Finding> {
    let around = Surroundings::default();
    let indexed = Indexed::new(zone, &around);
    let faults = ALL.iter().filter(|rule| rule.text.severity == Severity::Fault);
    faults.flat_map(|rule| (rule.check)(&indexed)).collect()
}

/// All findings about a zone, the gravest first.
pub fn judge(zone: &Document) -> Vec<Finding> {
    judge_within(zone, &Surroundings::default())
}

/// The same, with what is known beside the zone.
pub fn judge_within(zone: &Document, around: &Surroundings) -> Vec<Finding> {
    judge_by(&ALL.iter().collect::<Vec<_>>(), zone, around)
}

/// What those rules say that have said something of another form of the zone: whether it was so before.
pub fn judge_alike(found: &[Finding], zone: &Document, around: &Surroundings) -> Vec<Finding> {
    let has_spoken = |rule: &&Rule| found.iter().any(|finding| finding.code == rule.text.code);
    judge_by(&ALL.iter().filter(has_spoken).collect::<Vec<_>>(), zone, around)
}

fn judge_by(rules: &[&Rule], zone: &Document, around: &Surroundings) -> Vec<Finding> {
    let indexed = Indexed::new(zone, around);
    let mut findings: Vec<Finding> = match zone.entries().len() < WORTH_TWO {
        true => rules.iter().flat_map(|rule| (rule.check)(&indexed)).collect(),
        false => side_by_side(rules, &indexed),
    };
    findings.sort_by_key(|finding| finding.severity);
    findings
}

/// Two rules at a time; the findings stay in their order.
fn side_by_side(rules: &[&Rule], zone: &Indexed<'_>) -> Vec<Finding> {
    let next = AtomicUsize::new(0);
    let work = || {
        let mut found = Vec::new();
        loop {
            let number = next.fetch_add(1, Ordering::Relaxed);
            let Some(rule) = rules.get(number) else { return found };
            found.push((number, (rule.check)(zone)));
        }
    };
    let mut found = std::thread::scope(|scope| {
        let other = scope.spawn(work);
        let mut found = work();
        found.extend(other.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)));
        found
    });
    found.sort_by_key(|(number, _)| *number);
    found.into_iter().flat_map(|(_, findings)| findings).collect()
}

/// The hosts that a record points to.
fn targets(record: &Record) -> impl Iterator<Item = &DnsName> {
    let target = match &record.data {
        RecordData::Ns(name) | RecordData::Mx { exchange: name, .. } => Some(name),
        RecordData::Soa(soa) => Some(&soa.primary),
        // What SVCB and HTTPS are an alias for may be any name (RFC 9460 section 2.4.2).
        RecordData::Fields { record_type: RecordType(64 | 65), fields }
            if fields.first() == Some(&Field::Number(0)) =>
        {
            None
        }
        RecordData::Fields { record_type: RecordType(33 | 64 | 65), fields } => {
            fields.iter().find_map(|field| match field {
                Field::Name(name) => Some(name),
                _ => None,
            })
        }
        _ => None,
    };
    target.into_iter()
}

/// Whether every label is made of letters, digits and hyphens; a wildcard may stand first in an owner.
fn is_hostname(name: &DnsName, owner: bool) -> bool {
    let sound = |label: &[u8]| {
        let edge = |byte: Option<&u8>| byte.is_some_and(u8::is_ascii_alphanumeric);
        edge(label.first())
            && edge(label.last())
            && label.iter().all(|byte| byte.is_ascii_alphanumeric() || *byte == b'-')
    };
    name.labels().enumerate().all(|(index, label)| sound(label) || (owner && index == 0 && label == b"*"))
}

#[cfg(test)]
mod tests;

//! The rules that judge a delegation: one file each, with its texts beside its check.
//!
//! A check reads the whole picture and what is expected; it asks nothing. `tests` reads this folder and fails if a
//! rule is not registered here, has no texts, or has no test that makes it fire.

mod absence_unproven;
mod chain_broken;
mod delegated_here_without_zone;
mod delegation_ttls_differ;
mod ds_for_another_key;
mod ds_missing;
mod ds_unsupported;
mod ds_without_key;
mod glue_differs;
mod glue_missing;
mod glue_partial;
mod glue_superfluous;
mod nameserver_name_is_address;
mod nameserver_name_is_alias;
mod nameserver_out_of_place;
mod nameserver_set_full;
mod nameserver_without_address;
mod nameservers_not_as_expected;
mod nameservers_too_many;
mod not_registered;
mod one_nameserver_domain;
mod one_network;
mod parent_and_zone_differ;
mod parent_not_reached;
mod parent_server_silent;
mod parents_differ;
mod primary_not_in_set;
mod provider_names_visible;
mod recursion_offered;
mod serials_differ;
mod served_apex_alias;
mod served_other_zone;
mod served_soa_times;
mod served_ttl_zero;
mod server_denies_domain;
mod server_fails;
mod server_garbled;
mod server_not_authoritative;
mod server_refuses;
mod server_silent;
mod server_unreachable;
mod server_without_edns;
mod server_without_tcp;
mod server_without_udp;
mod servers_disagree;
mod signature_expired;
mod signature_expires_soon;
mod signature_missing;
mod signature_wrong;
mod single_nameserver;
mod transfer_open;
mod zone_by_hand;
mod zone_not_in_use;

use std::collections::BTreeMap;
use std::net::IpAddr;

use jiff::Timestamp;

use super::{Ds, Flaw, NameserverSeen, Picture, ServerSeen};
use crate::finding::{Finding, RuleText};
use crate::name::DnsName;

/// One rule: its texts, and the check that makes findings of it.
pub struct Rule {
    pub text: &'static RuleText,
    pub check: fn(&Picture, &Expected) -> Vec<Finding>,
}

/// What the harbor expects; empty where nothing is expected (a check without a harbor).
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Expected {
    pub nameservers: Vec<DnsName>,
    /// Their addresses, where the harbor knows them: for nameservers inside a domain of its own.
    pub addresses: BTreeMap<DnsName, Vec<IpAddr>>,
    /// Whether the harbor keeps the zone; `None` without a harbor.
    pub zone_here: Option<bool>,
    /// The nameservers of all sets of the harbor.
    pub own_nameservers: Vec<DnsName>,
    /// Addresses of servers of the harbor, whatever names lead there.
    pub own_addresses: Vec<IpAddr>,
    /// Names of the provider that were to be replaced by names of the customer's own.
    pub hidden_names: Vec<DnsName>,
    /// The secondaries that the harbor tells of its zones.
    pub secondaries: Vec<DnsName>,
    /// How full the nameserver set is, where its capacity is known.
    pub load: Option<Load>,
    /// When the harbor last changed the zone: what changed a moment ago is no mistake.
    pub changed_at: Option<Timestamp>,
    /// Since when somebody is asked to delegate the domain to these nameservers.
    pub asked_at: Option<Timestamp>,
}

/// How full a nameserver set is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Load {
    pub set: String,
    pub domains: u32,
    pub capacity: u32,
}

/// The findings that say that a nameserver does not have the zone.
pub const WITHOUT_ZONE: [&str; 5] =
    ["server-refuses", "server-not-authoritative", "server-fails", "server-denies-domain", "served-other-zone"];

/// In the order in which they are reported among findings of one severity.
pub const ALL: &[Rule] = &[
    not_registered::RULE,
    parent_not_reached::RULE,
    parents_differ::RULE,
    parent_server_silent::RULE,
    nameservers_not_as_expected::RULE,
    zone_not_in_use::RULE,
    delegated_here_without_zone::RULE,
    zone_by_hand::RULE,
    provider_names_visible::RULE,
    nameserver_set_full::RULE,
    nameserver_name_is_address::RULE,
    nameserver_name_is_alias::RULE,
    glue_missing::RULE,
    glue_differs::RULE,
    glue_partial::RULE,
    glue_superfluous::RULE,
    nameserver_without_address::RULE,
    nameserver_out_of_place::RULE,
    server_silent::RULE,
    server_unreachable::RULE,
    server_garbled::RULE,
    server_refuses::RULE,
    server_fails::RULE,
    server_denies_domain::RULE,
    served_apex_alias::RULE,
    served_other_zone::RULE,
    server_not_authoritative::RULE,
    server_without_udp::RULE,
    server_without_tcp::RULE,
    server_without_edns::RULE,
    parent_and_zone_differ::RULE,
    serials_differ::RULE,
    servers_disagree::RULE,
    chain_broken::RULE,
    ds_without_key::RULE,
    ds_for_another_key::RULE,
    ds_unsupported::RULE,
    signature_expired::RULE,
    signature_wrong::RULE,
    signature_missing::RULE,
    absence_unproven::RULE,
    signature_expires_soon::RULE,
    ds_missing::RULE,
    single_nameserver::RULE,
    nameservers_too_many::RULE,
    one_network::RULE,
    one_nameserver_domain::RULE,
    recursion_offered::RULE,
    transfer_open::RULE,
    served_soa_times::RULE,
    served_ttl_zero::RULE,
    primary_not_in_set::RULE,
    delegation_ttls_differ::RULE,
];

/// All findings about a delegation, the gravest first.
pub fn judge(picture: &Picture, expected: &Expected) -> Vec<Finding> {
    let mut findings: Vec<Finding> = ALL.iter().flat_map(|rule| (rule.check)(picture, expected)).collect();
    findings.sort_by_key(|finding| finding.severity);
    findings
}

/// The DS records that a validating resolver can use, and their key tags in words; `None` without any.
fn wanted_tags(picture: &Picture) -> Option<(Vec<&Ds>, String)> {
    let usable: Vec<&Ds> = picture.ds.iter().filter(|ds| ds.is_supported() && picture.chain.leads_on()).collect();
    let tags = usable.iter().map(|ds| ds.key_tag.to_string()).collect::<Vec<_>>().join(", ");
    (!usable.is_empty()).then_some((usable, tags))
}

/// What a server gives that a validating resolver would not accept, for one kind of flaw; `None` without any.
fn first_flaw(name: &str, server: &ServerSeen, is_one: impl Fn(&Flaw) -> bool) -> Option<String> {
    let mut flaws = server.probed.flaws.iter().filter(|seen| is_one(&seen.flaw));
    let first = flaws.next()?;
    let what = match first.absent {
        true if first.flaw == Flaw::Unproven => {
            format!("that there is no {} of {}", first.record_type, first.name.bare())
        }
        true => format!("the proof that there is no {} of {}", first.record_type, first.name.bare()),
        false => format!("{} of {}", first.record_type, first.name.bare()),
    };
    let more = match flaws.count() {
        0 => String::new(),
        more => format!(" ({more} more like it)"),
    };
    Some(format!("at {name} ({}) {what} {}{more}", server.address, first.flaw))
}

/// The nameservers of the delegation that are servers of this harbor, by name or by address, with whether they answer for
/// the domain.
fn ours<'a>(picture: &'a Picture, expected: &'a Expected) -> impl Iterator<Item = (&'a DnsName, bool)> {
    let is_ours = |(nameserver, server): &(&NameserverSeen, &ServerSeen)| {
        expected.own_nameservers.contains(&nameserver.name) || expected.own_addresses.contains(&server.address.ip())
    };
    picture.servers().filter(is_ours).map(|(nameserver, server)| (&nameserver.name, server.state.has_authority()))
}

/// What to do about a nameserver that does not hold the zone: one of the harbor's own secondaries is notified.
fn cure_of_missing_zone(name: &DnsName, expected: &Expected, otherwise: String) -> String {
    if expected.secondaries.contains(name) {
        "tell the secondaries: brightharbor zone publish".into()
    } else {
        otherwise
    }
}

/// Names in one line, without their final dots.
fn listed(names: &[DnsName]) -> String {
    if names.is_empty() {
        return "none".into();
    }
    names.iter().map(DnsName::bare).collect::<Vec<_>>().join(", ")
}

/// One finding at most about each nameserver at each address.
fn each_server(picture: &Picture, check: impl Fn(&str, &ServerSeen) -> Option<Finding>) -> Vec<Finding> {
    let found = |(nameserver, server): (&NameserverSeen, &ServerSeen)| {
        check(&nameserver.name.bare(), server).map(|finding| finding.at(server.address))
    };
    picture.servers().filter_map(found).collect()
}

#[cfg(test)]
mod tests;

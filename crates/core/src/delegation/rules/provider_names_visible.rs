//! The names of the provider show where own names were chosen.

use super::{Expected, Rule};
use crate::delegation::{Picture, ServerState};
use crate::finding::{Finding, RuleText, Severity};
use crate::name::DnsName;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "provider-names-visible",
    severity: Severity::Risk,
    what: "The domain has a nameserver set with names of its own, and names of the provider are still seen \
          in its delegation, NS or SOA records.",
    why: "Whoever chose own names did so that nobody sees whose machines they are; and a server that is \
          named both ways is counted twice.",
    cure: "Set the own names at the registrar, and change the NS and SOA records in the zone: `zone move` \
          does the latter.",
    source: "RFC 1034 section 4.2.2, RFC 1035 section 3.3.13",
};

fn check(picture: &Picture, expected: &Expected) -> Vec<Finding> {
    let mut seen: Vec<(&str, DnsName)> = Vec::new();
    let mut look = |place: &'static str, name: &DnsName| {
        if expected.hidden_names.contains(name) && !seen.contains(&(place, name.clone())) {
            seen.push((place, name.clone()));
        }
    };
    picture.delegated_names().iter().for_each(|name| look("the delegation", name));
    for (_, server) in picture.servers() {
        if let ServerState::Authoritative { nameservers, .. } = &server.state {
            nameservers.iter().for_each(|name| look("the NS records", name));
        }
        server.probed.soa.iter().for_each(|soa| look("the SOA record", &soa.primary));
    }
    let domain = picture.domain.bare();
    let finding = |(place, name): (&str, DnsName)| {
        let message = format!("{} shows in {place} of {domain}", name.bare());
        TEXT.finding(&domain, message, format!("put the own names into {place}"))
    };
    seen.into_iter().map(finding).collect()
}

//! The first two links: whether the parent zone knows the domain, and whether it delegates to the right servers.

use super::{Link, LinkName, LinkState, Seen, Turn};
use crate::delegation::rules::WITHOUT_ZONE;
use crate::delegation::{REFUSED_BY_VALIDATORS, Registered};
use crate::finding::{Finding, Severity};
use crate::name::DnsName;
use crate::nameserver::at_registrar;

pub(super) fn registered(seen: &Seen<'_>) -> Link {
    let (domain, parent) = (seen.picture.domain.bare(), seen.picture.parent_zone.bare());
    let link = |state, code: &'static str, because: String| Link::new(LinkName::Registered, state, code, because);
    match &seen.picture.registered {
        Registered::Yes => link(LinkState::Holds, "registered", format!("{parent} delegates {domain}")),
        Registered::No => link(LinkState::Broken, "not-registered", format!("{parent} does not delegate {domain}"))
            .turn(Turn::Registrar)
            .values(at_registrar(&seen.picture.domain, seen.expected)),
        Registered::Unknown(why) => {
            link(LinkState::Unchecked, "parent-not-asked", format!("the parent could not be asked: {why}"))
                .turn(Turn::Administrator)
        }
    }
}

fn lacks_the_zone(finding: &Finding) -> bool {
    WITHOUT_ZONE.contains(&finding.code)
}

pub(super) fn delegated(seen: &Seen<'_>, registered: &Link) -> Link {
    let link = |state, code: &'static str, because: String| Link::new(LinkName::Delegated, state, code, because);
    if registered.state != LinkState::Holds {
        return link(LinkState::Unchecked, "parent-says-nothing", "the parent says nothing about the domain".into());
    }
    let elsewhere = seen.findings.iter().find(|finding| finding.code == "nameservers-not-as-expected");
    if let Some(finding) = elsewhere {
        // Who was asked a moment ago has a time to do it in.
        let state = finding.waits_until.map_or(LinkState::Broken, |until| LinkState::Waiting(Some(until)));
        return link(state, finding.code, finding.message.clone())
            .turn(Turn::Registrar)
            .values(at_registrar(&seen.picture.domain, seen.expected));
    }
    let names = seen.picture.delegated_names();
    let listed = names.iter().map(DnsName::bare).collect::<Vec<_>>().join(", ");
    let answering = seen.picture.authoritative_servers().count();
    let turn = if seen.expected.nameservers.is_empty() { Turn::DnsHost } else { Turn::Administrator };
    let missing = seen.findings.iter().find(|finding| lacks_the_zone(finding) && answering > 0 && seen.zone_is_here());
    if let Some(finding) = missing {
        // Half of the visitors are led astray first; a secondary of ours may have it in a moment.
        let is_secondary = seen.expected.secondaries.iter().any(|name| name.bare() == finding.subject);
        let state = if is_secondary { LinkState::Waiting(None) } else { LinkState::Broken };
        let because = format!("{}; {}", finding.message, finding.cure);
        return link(state, finding.code, because).turn(Turn::Administrator);
    }
    // Half of the visitors ask a resolver that verifies signatures; the other links look fine to everybody else.
    if let Some(finding) = seen.findings.iter().find(|f| f.is_fault() && REFUSED_BY_VALIDATORS.contains(&f.code)) {
        let turn = match finding.code {
            "ds-without-key" | "ds-for-another-key" => Turn::Registrar,
            "chain-broken" => Turn::Administrator,
            _ => turn,
        };
        let because = format!("validating resolvers give no answer: {}; {}", finding.message, finding.cure);
        return link(LinkState::Broken, finding.code, because).turn(turn);
    }
    let fault = seen.findings.iter().find(|finding| finding.severity != Severity::Note);
    match fault {
        None => link(LinkState::Holds, "delegated", format!("{listed}: all answer with authority")),
        Some(finding) if answering > 0 => link(LinkState::Risk, finding.code, finding.message.clone()).turn(turn),
        Some(finding) => {
            let turn = if finding.code.starts_with("glue") { Turn::Registrar } else { turn };
            link(LinkState::Broken, finding.code, finding.message.clone()).turn(turn)
        }
    }
}

//! An address or mail exchanger at a name that no host can have.

use super::{Indexed, Rule, is_hostname};
use crate::finding::{Finding, RuleText, Severity};
use crate::name::DnsName;
use crate::zone::{Record, RecordType};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "owner-not-a-hostname",
    severity: Severity::Fault,
    what: "A name with an A, AAAA or MX record has characters that a hostname cannot have, such as an underscore.",
    why: "Programs refuse to connect to such a name, and primary servers refuse to load the zone.",
    cure: "Use letters, digits and hyphens. Underscores belong to names that are not hosts, such as `_dmarc`.",
    source: "RFC 1123 section 2.1",
};

/// `gc._msdcs` above a hostname: where a directory of Microsoft's has its global catalogue.
fn is_directory(owner: &DnsName) -> bool {
    let mut labels = owner.labels();
    let begins = ["gc", "_msdcs"]
        .iter()
        .all(|own| labels.next().is_some_and(|label| label.eq_ignore_ascii_case(own.as_bytes())));
    begins && DnsName::from_labels(labels).is_ok_and(|above| !above.is_root() && is_hostname(&above, false))
}

/// The names whose addresses a sender policy asks for (RFC 7208 section 5.7 and appendix D.1.2).
fn is_policy_target(owner: &DnsName) -> bool {
    const LABELS: [&str; 3] = ["_spf", "_spf_verify", "_spf_rate"];
    let labels: Vec<&[u8]> = owner.labels().collect();
    let inner = labels.len().saturating_sub(1);
    labels[..inner].iter().any(|label| LABELS.iter().any(|own| label.eq_ignore_ascii_case(own.as_bytes())))
}

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (owner, records) in zone.owners() {
        let host =
            records.iter().find(|r| matches!(r.record_type(), RecordType::A | RecordType::AAAA | RecordType::MX));
        let allowed = |record: &Record| match record.record_type() {
            RecordType::A => is_directory(owner) || is_policy_target(owner),
            RecordType::AAAA => is_directory(owner),
            _ => false,
        };
        let Some(record) = host.filter(|record| !is_hostname(owner, true) && !allowed(record)) else { continue };
        let name = owner.bare();
        let message = format!("{name} has an {} record and cannot be the name of a host", record.record_type());
        findings.push(zone.on(record, TEXT.finding(&name, message, "use letters, digits and hyphens alone")));
    }
    findings
}

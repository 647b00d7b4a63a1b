//! Nobody takes questions at the address of a nameserver, or no way leads there.

use super::{Expected, Rule};
use crate::delegation::{Picture, ServerState};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "server-unreachable",
    severity: Severity::Fault,
    what: "The host of a nameserver says that nobody listens at its DNS port, or the network says that there is no way to \
           it.",
    why: "Resolvers learn at once that they have to try another; with no other one left, nothing resolves. Mostly the \
          server program does not run, or listens at other addresses alone.",
    cure: "Start the server program and see that it listens at that address. If it has moved, have the address corrected \
           at the registrar and in the zone.",
    source: "RFC 1912 section 2.8",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (nameserver, server) in picture.servers() {
        let ServerState::Unreachable { reason } = &server.state else { continue };
        let name = nameserver.name.bare();
        let message = format!("{name} at {} cannot be reached ({reason})", server.address);
        let cure = format!("see that the DNS server of {name} runs and listens at {}", server.address);
        findings.push(TEXT.finding(&name, message, cure).at(server.address));
    }
    findings
}

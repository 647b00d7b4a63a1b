//! A nameserver answers over TCP alone.

use super::{Expected, Rule, each_server};
use crate::delegation::{Picture, Reached};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "server-without-udp",
    severity: Severity::Fault,
    what: "A nameserver answers questions over TCP and not over UDP.",
    why: "Resolvers ask over UDP first and wait; many give the server up without trying TCP.",
    cure: "Open UDP port 53 in the firewall of that server, in both directions, and see that the server \
          listens there.",
    source: "RFC 1035 section 4.2, RFC 1123 section 6.1.3.2",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    each_server(picture, |name, server| match (&server.probed.udp, &server.probed.tcp) {
        (Reached::Failed(why), Reached::Works) => {
            let message = format!("{name} at {} answers over TCP, and over UDP it {why}", server.address);
            Some(TEXT.finding(name, message, format!("let UDP through to {} too", server.address)))
        }
        _ => None,
    })
}

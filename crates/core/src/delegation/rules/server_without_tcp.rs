//! A nameserver answers over UDP alone.

use super::{Expected, Rule, each_server};
use crate::delegation::{Picture, Reached};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "server-without-tcp",
    severity: Severity::Risk,
    what: "A nameserver answers questions over UDP and not over TCP.",
    why: "Answers that do not fit into one datagram are fetched over TCP. Without it, larger answers such \
          as keys, long TXT records or many addresses do not arrive, for some visitors and at some times.",
    cure: "Open TCP port 53 in the firewall of that server, and see that the server listens there.",
    source: "RFC 7766 section 5, RFC 9210",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    each_server(picture, |name, server| match (&server.probed.udp, &server.probed.tcp) {
        (Reached::Works, Reached::Failed(why)) => {
            let message = format!("{name} at {} answers over UDP, and over TCP it {why}", server.address);
            Some(TEXT.finding(name, message, format!("let TCP through to {} too", server.address)))
        }
        _ => None,
    })
}

//! The server takes a weak cipher.

use super::Rule;
use crate::certificate::{Installed, Served};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "weak-cipher-accepted",
    severity: Severity::Risk,
    what: "The server takes a cipher suite without encryption or authentication, with export keys, or with \
           RC4, DES or triple DES.",
    why: "Whoever can slip into a handshake may bring two partners down to it, and read along.",
    cure: "Allow ciphers with forward secrecy and authenticated encryption alone.",
    source: "RFC 9325 section 4.1, RFC 7465",
};

fn check(served: &Served, _: &Installed) -> Vec<Finding> {
    let weak: Vec<&str> = served.suites.iter().filter(|family| family.is_weak()).map(|family| family.words()).collect();
    if weak.is_empty() {
        return vec![];
    }
    let message = format!("{} takes cipher suites with {}", served.address, weak.join(", "));
    vec![TEXT.finding(&served.host, message, "allow ECDHE with AES-GCM or ChaCha20 alone")]
}

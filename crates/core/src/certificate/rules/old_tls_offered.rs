//! The server still speaks old versions.

use super::Rule;
use crate::certificate::TlsVersion;
use crate::certificate::{Installed, Served};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "old-tls-offered",
    severity: Severity::Risk,
    what: "The server takes handshakes with SSL 3.0, TLS 1.0 or TLS 1.1.",
    why: "These versions are broken or close to it, and forbidden by many rules for payments and health \
          data. Nobody needs them any more.",
    cure: "Allow TLS 1.2 and 1.3 alone (nginx: ssl_protocols; Apache httpd: SSLProtocol).",
    source: "RFC 8996, RFC 7568",
};

fn check(served: &Served, _: &Installed) -> Vec<Finding> {
    let old: Vec<&str> =
        served.versions.iter().filter(|version| **version < TlsVersion::Tls12).map(|version| version.words()).collect();
    if old.is_empty() {
        return vec![];
    }
    let message = format!("{} speaks {}", served.address, old.join(", "));
    vec![TEXT.finding(&served.host, message, "allow TLS 1.2 and 1.3 alone")]
}

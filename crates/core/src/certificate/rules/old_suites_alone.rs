//! The server takes no cipher suite that is as it should be.

use super::Rule;
use crate::certificate::{Installed, Served, SuiteFamily, TlsVersion};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "old-suites-alone",
    severity: Severity::Risk,
    what: "The server speaks no TLS 1.3, and takes no cipher suite with forward secrecy and authenticated \
           encryption.",
    why: "Whoever records what visitors send can read it later, once the server's key is known; and more and more \
          programs refuse such servers.",
    cure: "Allow TLS 1.3, and ECDHE with AES-GCM or ChaCha20 for TLS 1.2 (nginx: ssl_protocols, ssl_ciphers; \
           Apache httpd: SSLProtocol, SSLCipherSuite).",
    source: "RFC 9325 section 4.2, RFC 9113 section 9.2.2",
};

fn check(served: &Served, _: &Installed) -> Vec<Finding> {
    let good = served.versions.contains(&TlsVersion::Tls13) || served.suites.contains(&SuiteFamily::Authenticated);
    if good || served.failed.is_some() || served.suites.is_empty() {
        return vec![];
    }
    let taken: Vec<&str> = served.suites.iter().map(|family| family.words()).collect();
    let message = format!("{} takes cipher suites with {} alone", served.address, taken.join(", "));
    vec![TEXT.finding(&served.host, message, "allow TLS 1.3, and ECDHE with AES-GCM or ChaCha20 for TLS 1.2")]
}

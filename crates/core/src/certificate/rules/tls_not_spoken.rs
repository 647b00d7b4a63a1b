//! No handshake of today comes about.

use super::Rule;
use crate::certificate::{Installed, Served};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "tls-not-spoken",
    severity: Severity::Fault,
    what: "The server answers no TLS handshake with TLS 1.2 or TLS 1.3 at this address.",
    why: "Browsers of today speak nothing older: they show an error page, and no visitor gets in over \
          https.",
    cure: "See that the web server listens for https at that address, with a certificate, and that no \
          firewall is in the way.",
    source: "RFC 9325 section 3.1.1",
};

fn check(served: &Served, _: &Installed) -> Vec<Finding> {
    let Some(why) = &served.failed else { return vec![] };
    let message = format!("{}: {why}", served.place());
    let cure = match (served.address.ip().is_unspecified(), served.start_tls) {
        (true, _) => "give the name an address record, or say with --at where its server is",
        (false, Some(_)) => "have the server offer STARTTLS, with a certificate",
        (false, None) => "see that the web server listens there, with a certificate",
    };
    vec![TEXT.finding(&served.host, message, cure)]
}

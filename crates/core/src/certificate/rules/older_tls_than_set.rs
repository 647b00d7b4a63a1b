//! TLS 1.2 is taken where the site is set to TLS 1.3 alone. Older versions are told by `old_tls_offered`.

use super::{Rule, is_installed};
use crate::certificate::{Installed, Served, TlsVersion};
use crate::finding::{Finding, RuleText, Severity};
use crate::site::TlsFloor;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "older-tls-than-set",
    severity: Severity::Risk,
    what: "The site is set to TLS 1.3 alone, and the server takes TLS 1.2 for it.",
    why: "The web server has not loaded the site's file as it is written now, or another server stands in front of it and \
          ends TLS.",
    cure: "Have the file written again and loaded: brightharbor site realign. Else set the version at the server in front.",
    source: "RFC 9325 section 3.1.1",
};

fn check(served: &Served, installed: &Installed) -> Vec<Finding> {
    let only_13 = installed.tls == Some(TlsFloor::Tls13) && is_installed(served, installed);
    if !only_13 || !served.versions.contains(&TlsVersion::Tls12) {
        return vec![];
    }
    let message = format!("{} takes TLS 1.2, and the site is set to TLS 1.3 alone", served.place());
    vec![TEXT.finding(&served.host, message, "have its file written again and loaded: brightharbor site realign")]
}

//! The rules that judge what a server shows over TLS: one file each, with its texts beside its check.
//!
//! A check asks nothing. `tests` reads this folder and fails if a rule is not registered here, or has no test that makes
//! it fire.

mod chain_issuer_missing;
mod chain_out_of_order;
mod chain_root_sent;
mod hsts_not_as_set;
mod old_suites_alone;
mod old_tls_offered;
mod older_tls_than_set;
mod served_expired;
mod served_expires_soon;
mod served_name_not_covered;
mod served_not_installed;
mod served_not_trusted;
mod served_revoked;
mod served_weak;
mod site_name_not_covered;
mod staple_missing;
mod staple_worthless;
mod tls_not_spoken;
mod weak_cipher_accepted;

use super::{CertificateFacts, Installed, Served};
use crate::finding::{Finding, RuleText};

/// One rule: its texts, and the check that makes findings of it.
pub struct Rule {
    pub text: &'static RuleText,
    pub check: fn(&Served, &Installed) -> Vec<Finding>,
}

/// In the order in which they are reported among findings of one severity.
pub const ALL: &[Rule] = &[
    tls_not_spoken::RULE,
    served_name_not_covered::RULE,
    served_revoked::RULE,
    served_expired::RULE,
    chain_issuer_missing::RULE,
    served_not_trusted::RULE,
    served_weak::RULE,
    served_not_installed::RULE,
    staple_missing::RULE,
    staple_worthless::RULE,
    site_name_not_covered::RULE,
    served_expires_soon::RULE,
    chain_out_of_order::RULE,
    old_tls_offered::RULE,
    older_tls_than_set::RULE,
    hsts_not_as_set::RULE,
    old_suites_alone::RULE,
    weak_cipher_accepted::RULE,
    chain_root_sent::RULE,
];

/// All findings about what a server shows, the gravest first.
pub fn judge(served: &Served, installed: &Installed) -> Vec<Finding> {
    let mut findings: Vec<Finding> = ALL.iter().flat_map(|rule| (rule.check)(served, installed)).collect();
    findings.sort_by_key(|finding| finding.severity);
    findings
}

/// Whether the server shows what is installed for the host: it is the one that the site's settings are for.
fn is_installed(served: &Served, installed: &Installed) -> bool {
    served.chain.first().is_some_and(|leaf| Some(&leaf.der) == installed.leaf.as_ref())
}

/// A certificate by what people know it by.
fn shown(facts: &CertificateFacts) -> String {
    match (facts.names.first(), facts.subject.as_str()) {
        (Some(name), _) => format!("the certificate of {name}"),
        (None, "") => "a certificate without a name".into(),
        (None, subject) => format!("the certificate {subject}"),
    }
}

#[cfg(test)]
mod tests;

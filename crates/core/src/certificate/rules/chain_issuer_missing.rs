//! The server does not send the issuer of its certificate.

use super::Rule;
use crate::certificate::{Distrust, Installed, Served, is_self_signed};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "chain-issuer-missing",
    severity: Severity::Fault,
    what: "The chain as it is sent ends before a certificate that programs know, since an issuer in between \
          is not sent.",
    why: "Some browsers find the missing one by themselves, others and most programs do not: for a part of \
          all visitors the site cannot be trusted.",
    cure: "Install the certificate together with those of its issuers, as the seller or the CA gives them.",
    source: "RFC 5246 section 7.4.2, RFC 8446 section 4.4.2",
};

fn check(served: &Served, _: &Installed) -> Vec<Finding> {
    let unknown = served.verified == Err(Distrust::UnknownIssuer);
    let Some(last) = served.chain.last().filter(|_| unknown) else { return vec![] };
    if is_self_signed(last) {
        return vec![];
    }
    let message = format!("the chain at {} ends before {}", served.address, last.issuer);
    vec![TEXT.finding(&served.host, message, format!("send the certificate of {} along", last.issuer))]
}

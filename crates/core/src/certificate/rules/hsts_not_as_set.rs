//! Browsers are bound to https for another time than the site is set to, or not at all.

use super::{Rule, is_installed};
use crate::certificate::{Installed, Served};
use crate::finding::{Finding, RuleText, Severity};
use crate::zone::show_seconds;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "hsts-not-as-set",
    severity: Severity::Risk,
    what: "The site is set to bind browsers to https (HSTS), and the server's answer says something else, or nothing.",
    why: "The web server has not loaded the site's file as it is written now, or a program behind it sends a field of its \
          own.",
    cure: "Have the file written again and loaded: brightharbor site realign. Else take the field out of the program.",
    source: "RFC 6797 section 6.1",
};

fn check(served: &Served, installed: &Installed) -> Vec<Finding> {
    let Some(wanted) = installed.hsts.filter(|_| served.asks_for_pages() && is_installed(served, installed)) else {
        return vec![];
    };
    if served.hsts == Some(u64::from(wanted)) {
        return vec![];
    }
    let found = served.hsts.map_or("nothing".to_string(), show_seconds);
    let message =
        format!("{} is set to HSTS for {}, and its answer says {found}", served.host, show_seconds(wanted.into()));
    vec![TEXT.finding(&served.host, message, "have its file written again and loaded: brightharbor site realign")]
}

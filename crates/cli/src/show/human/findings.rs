//! Findings of any kind: severity, what was seen, the cure.

use brightharbor_core::finding::Finding;
use brightharbor_io::clock;

use super::Page;
use super::page::{style_of, when};

pub fn findings(page: &mut Page, findings: &[Finding]) {
    for finding in findings {
        let word = finding.word();
        let prefix = format!("  {word:<8}");
        let until =
            finding.waits_until.map(|until| format!("until {}: ", when(until, clock::now()))).unwrap_or_default();
        let place = finding.place.map(|place| format!("line {}: ", place.line)).unwrap_or_default();
        page.styled(&[(&prefix, style_of(word))], &format!("{place}{until}{} ({})", finding.message, finding.code));
        page.hanging("          cure: ", &finding.cure);
        for follows in &finding.follows {
            page.hanging("          with it: ", &format!("{} ({})", follows.message, follows.code));
        }
    }
}

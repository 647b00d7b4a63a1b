//! Findings of any kind: severity, what was seen, the cure.

use brightharbor_core::finding::Finding;

use super::Page;
use super::page::style_of;

pub fn findings(page: &mut Page, findings: &[Finding]) {
    for finding in findings {
        let word = finding.severity.word();
        let prefix = format!("  {word:<7}");
        page.styled(&prefix, style_of(word), 9, &format!("{} ({})", finding.message, finding.code));
        page.hanging("         cure: ", &finding.cure);
    }
}

//! The texts of every rule of the program, for `explain`. The rules themselves lie beside what they judge.

use crate::finding::RuleText;
use crate::{certificate, delegation, zone};

/// All of them, in the order of the program's parts.
pub fn all_rule_texts() -> Vec<&'static RuleText> {
    let delegation = delegation::rules::ALL.iter().map(|rule| rule.text);
    let zone = zone::rules::ALL.iter().map(|rule| rule.text);
    delegation.chain(zone).chain(certificate::rules::ALL.iter().map(|rule| rule.text)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_code_is_there_once() {
        let mut codes: Vec<&str> = all_rule_texts().iter().map(|text| text.code).collect();
        let count = codes.len();
        codes.sort_unstable();
        codes.dedup();
        assert_eq!(codes.len(), count);
    }
}

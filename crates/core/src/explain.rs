//! The texts of every rule of the program, for `explain`. The rules themselves lie beside what they judge.

use crate::delegation;
use crate::finding::RuleText;

/// All of them, in the order of the program's parts.
pub fn all_rule_texts() -> Vec<&'static RuleText> {
    delegation::rules::ALL.iter().map(|rule| rule.text).collect()
}

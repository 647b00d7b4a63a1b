//! The command that is notified of changes, as `harbor.toml` settles it.

use serde::{Deserialize, Serialize};

/// A command that gets one notice at a time on standard input, as JSON. Empty: there is none.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Notify {
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub command: Vec<String>,
    /// Days until a condition that lasts is reported again.
    #[serde(default = "default_reminder")]
    pub reminder_days: u16,
}

fn default_reminder() -> u16 {
    7
}

impl Notify {
    pub(super) fn is_usual(&self) -> bool {
        *self == Self::default()
    }
}

impl Default for Notify {
    fn default() -> Self {
        Self { command: vec![], reminder_days: default_reminder() }
    }
}

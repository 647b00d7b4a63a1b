//! Options that many commands share.

use std::path::PathBuf;

use clap::Args;

#[derive(Debug, Args)]
pub struct Common {
    /// The harbor to work in.
    #[arg(long, global = true, env = "BRIGHTHARBOR", value_name = "FOLDER", default_value = "/var/lib/brightharbor")]
    pub harbor: PathBuf,
    /// Print one JSON document instead of text.
    #[arg(long, global = true)]
    pub json: bool,
}

/// For commands that change something.
#[derive(Debug, Clone, Default, Args)]
pub struct ChangeOptions {
    /// Show the changes and a diff, and do nothing.
    #[arg(long)]
    pub dry_run: bool,
    /// Carry the changes out without asking.
    #[arg(long)]
    pub yes: bool,
}

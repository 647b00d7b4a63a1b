//! What can be typed. No I/O: settings and environment come in later (`run::Context`).

use std::path::PathBuf;

use clap::{Args as Group, Parser, Subcommand};

use crate::commands;

/// Attach domains to accounts, keep their DNS zones, check their delegation, and secure every hostname.
///
/// A hostname works when six links hold: registered, delegated, resolves, answers, secure, lands. Every command that
/// touches a hostname ends by showing them.
#[derive(Debug, Parser)]
#[command(name = "brightharbor", version, max_term_width = 100, arg_required_else_help = true)]
#[command(
    after_help = "Exit codes: 0 done; 1 a fault was found; 2 wrong use; 3 done, but something still waits or is \
                        somebody else's turn; 4 refused, nothing changed; 5 failed midway and rolled back."
)]
pub struct Args {
    #[command(flatten)]
    pub common: Common,
    #[command(subcommand)]
    pub command: Command,
}

#[derive(Debug, Group)]
pub struct Common {
    /// The harbor to work in.
    #[arg(long, global = true, env = "BRIGHTHARBOR", value_name = "FOLDER", default_value = "/var/lib/brightharbor")]
    pub harbor: PathBuf,
    /// Print one JSON document instead of text.
    #[arg(long, global = true)]
    pub json: bool,
}

/// For commands that change something.
#[derive(Debug, Clone, Default, Group)]
pub struct ChangeOptions {
    /// Show the changes and a diff, and do nothing.
    #[arg(long)]
    pub dry_run: bool,
    /// Carry the changes out without asking.
    #[arg(long)]
    pub yes: bool,
}

#[derive(Debug, Subcommand)]
pub enum Command {
    Init(commands::init::Init),
    Demo(commands::demo::Demo),
    /// Customers and their homes.
    #[command(subcommand)]
    Account(commands::account::Account),
    Attach(commands::attach::Attach),
    /// What is served.
    #[command(subcommand)]
    Site(commands::site::Site),
    /// The records of a zone.
    #[command(subcommand)]
    Record(commands::record::Record),
    /// Who answers for a domain.
    #[command(subcommand)]
    Delegation(commands::delegation::Delegation),
    /// Certificates of sites.
    #[command(subcommand)]
    Certificate(commands::certificate::Certificate),
    Survey(commands::survey::Survey),
    Tend(commands::tend::Tend),
    Logbook(commands::logbook::Logbook),
    Explain(commands::explain::Explain),
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_arguments_are_consistent() {
        use clap::CommandFactory;
        Args::command().debug_assert();
    }
}

//! What can be typed. No I/O: settings and environment come in later (`run::Context`).

use clap::{Parser, Subcommand};

use crate::commands;
use crate::options::Common;

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

#[derive(Debug, Subcommand)]
pub enum Command {
    Init(commands::init::Init),
    #[cfg(feature = "demo")]
    Demo(commands::demo::Demo),
    /// Customers and their homes.
    #[command(subcommand)]
    Account(commands::account::Account),
    /// What accounts may have.
    #[command(subcommand)]
    Plan(commands::plan::PlanCommand),
    Attach(commands::attach::Attach),
    Detach(commands::detach::Detach),
    /// What is served.
    #[command(subcommand)]
    Site(commands::site::Site),
    /// Whole zones, in this harbor or in any master file.
    #[command(subcommand)]
    Zone(commands::zone::Zone),
    /// The records of a zone, in this harbor or in any master file.
    #[command(subcommand)]
    Record(commands::record::Record),
    /// Where a name or path leads instead of its own page.
    #[command(subcommand)]
    Redirect(commands::redirect::RedirectCommand),
    /// Nameserver sets: names that domains are delegated to together.
    #[command(subcommand)]
    Nameserver(commands::nameserver::NameserverCommand),
    /// Who answers for a domain.
    #[command(subcommand)]
    Delegation(commands::delegation::Delegation),
    /// The CAs of harbor.toml and the accounts there.
    #[command(subcommand)]
    Ca(commands::ca::CaCommand),
    /// Certificates of sites.
    #[command(subcommand)]
    Certificate(commands::certificate::Certificate),
    Survey(commands::survey::Survey),
    Report(commands::report::Report),
    Tend(commands::tend::Tend),
    Logbook(commands::logbook::Logbook),
    Load(commands::load::Load),
    Undo(commands::undo::Undo),
    Explain(commands::explain::Explain),
    Manual(commands::manual::Manual),
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

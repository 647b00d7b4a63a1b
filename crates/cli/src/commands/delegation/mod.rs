//! `delegation`: who answers for a domain.

pub mod check;

use clap::Subcommand;

#[derive(Debug, Subcommand)]
pub enum Delegation {
    Check(check::Check),
}

//! `delegation`: who answers for a domain, what to do at the registrar, and waiting for it.

pub mod check;
mod chosen;
pub mod handover;
pub mod wait;

use clap::Subcommand;

#[derive(Debug, Subcommand)]
pub enum Delegation {
    Check(check::Check),
    Handover(handover::HandoverArguments),
    Wait(wait::Wait),
}

//! `zone`: whole zones, in this harbor or in any master file.

pub mod check;
pub mod create;
pub mod list;
pub mod print;
mod source;

use clap::Subcommand;

#[derive(Debug, Subcommand)]
pub enum Zone {
    Check(check::Check),
    Create(create::Create),
    List(list::List),
    Print(print::Print),
}

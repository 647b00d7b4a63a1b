//! `record`: the records of a zone.

pub mod list;

use clap::Subcommand;

#[derive(Debug, Subcommand)]
pub enum Record {
    List(list::List),
}

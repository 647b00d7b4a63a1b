//! `site`: what is served.

pub mod list;

use clap::Subcommand;

#[derive(Debug, Subcommand)]
pub enum Site {
    List(list::List),
}

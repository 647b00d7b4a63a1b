//! `account`: customers and their homes.

pub mod add;
pub mod list;

use clap::Subcommand;

#[derive(Debug, Subcommand)]
pub enum Account {
    Add(add::Add),
    List(list::List),
}

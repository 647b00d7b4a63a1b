//! `certificate`: certificates of sites.

pub mod issue;
pub mod list;

use clap::Subcommand;

#[derive(Debug, Subcommand)]
pub enum Certificate {
    Issue(issue::Issue),
    List(list::List),
}

//! `certificate`: certificates of sites.

pub mod issue;

use clap::Subcommand;

#[derive(Debug, Subcommand)]
pub enum Certificate {
    Issue(issue::Issue),
}

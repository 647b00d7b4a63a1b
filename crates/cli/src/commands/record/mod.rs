//! `record`: the records of a zone, in this harbor or in any master file.

pub mod add;
mod alter;
mod elsewhere;
pub mod list;
mod place;
pub mod remove;
pub mod replace;
mod report;

use clap::Subcommand;

#[derive(Debug, Subcommand)]
pub enum Record {
    Add(add::Add),
    List(list::List),
    Remove(remove::Remove),
    Replace(replace::Replace),
}

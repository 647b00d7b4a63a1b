//! `plan`: what accounts may have.

pub mod list;
pub mod remove;
pub mod set;

use clap::Subcommand;

#[derive(Debug, Subcommand)]
pub enum PlanCommand {
    Add(set::Add),
    Change(set::Change),
    List(list::List),
    Remove(remove::Remove),
    Show(list::Show),
}

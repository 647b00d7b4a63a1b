//! `account`: customers and their homes.

pub mod add;
pub mod change;
pub mod list;
pub mod remove;
pub mod show;

use clap::Subcommand;

#[derive(Debug, Subcommand)]
pub enum Account {
    Add(add::Add),
    Change(change::ChangeAccount),
    List(list::List),
    Remove(remove::Remove),
    Show(show::Show),
}

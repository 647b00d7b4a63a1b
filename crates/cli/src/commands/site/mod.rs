//! `site`: what is served.

pub mod change;
pub mod list;
pub mod log;
pub mod protect;
pub mod realign;
pub mod show;

use clap::Subcommand;

#[derive(Debug, Subcommand)]
pub enum Site {
    Change(change::ChangeSite),
    List(list::List),
    Log(log::Log),
    Protect(protect::Protect),
    Realign(realign::Realign),
    Show(show::Show),
}

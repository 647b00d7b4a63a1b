//! `zone`: whole zones, in this harbor or in any master file.

pub mod change;
pub mod check;
mod chosen;
pub mod compare;
pub mod create;
pub mod list;
mod list_server;
pub mod load;
pub mod move_to;
pub mod prepare_move;
pub mod print;
pub mod publish;
pub mod realign;
pub mod remove;
pub mod show;
mod sign;
mod signed;
mod source;

use clap::Subcommand;

#[derive(Debug, Subcommand)]
pub enum Zone {
    Change(change::Change),
    Check(check::Check),
    Compare(compare::Compare),
    Create(create::Create),
    List(list::List),
    Load(load::Load),
    Move(move_to::Move),
    PrepareMove(prepare_move::PrepareMove),
    Print(print::Print),
    Publish(publish::Publish),
    Realign(realign::Realign),
    Remove(remove::Remove),
    Show(show::Show),
}

//! `certificate`: certificates of sites, from the CA, bought, or made here.

pub mod check;
mod foreseen;
pub mod import;
pub mod install;
pub mod issue;
pub mod list;
mod list_former;
mod metrics;
pub mod prove;
mod proven;
pub mod request;
pub mod revoke;
mod rows;
pub mod self_sign;
pub mod show;
mod unlock;
mod wish;

use clap::Subcommand;

#[derive(Debug, Subcommand)]
pub enum Certificate {
    Check(check::Check),
    Import(import::Import),
    Install(install::Install),
    Issue(issue::Issue),
    List(list::List),
    Prove(prove::Prove),
    Renew(issue::Renew),
    Request(request::Request),
    Revoke(revoke::Revoke),
    SelfSign(self_sign::SelfSign),
    Show(show::Show),
}

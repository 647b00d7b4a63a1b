//! `ca`: the certificate authorities of the settings, and the harbor's accounts there.

pub mod account;
pub mod list;

use brightharbor_core::harbor::Ca;
use brightharbor_io::acme::{ErrandError, SessionError};
use brightharbor_io::harbor::Harbor;
use clap::Subcommand;

use crate::error::Error;

#[derive(Debug, Subcommand)]
pub enum CaCommand {
    ChangeKey(account::ChangeKey),
    Close(account::Close),
    List(list::List),
    TellContact(account::TellContact),
}

/// A CA of the settings by its name; that of `[ca]` goes by `default`.
fn find<'a>(harbor: &'a Harbor, name: &str) -> Result<&'a Ca, Error> {
    let ca = harbor.settings.ca_named(Some(name)).filter(|ca| ca.directory.is_some());
    ca.ok_or_else(|| {
        Error::refused("unknown-ca", format!("harbor.toml has no CA `{}`", name.escape_debug()))
            .advice("see `brightharbor ca list`")
    })
}

impl From<ErrandError> for Error {
    fn from(error: ErrandError) -> Self {
        let advice = match &error {
            ErrandError::NoAccount(_) => "the first order opens one; until then there is nothing to do",
            ErrandError::Unreachable(_) => "try again later: what was begun is gone on with",
            ErrandError::Place(_) => "see that you may write to the folder `ca` of the harbor, then try again",
            ErrandError::Session(SessionError::KeyChange) => "finish it: brightharbor ca change-key NAME",
            ErrandError::Session(_) | ErrandError::Key(_) => "mend that, then try again",
            ErrandError::Chain(_) => "see that the file is there and can be read: run it as root",
            ErrandError::Refused(_) => "nothing was changed here",
        };
        Error::refused("ca-refuses", error).advice(advice)
    }
}

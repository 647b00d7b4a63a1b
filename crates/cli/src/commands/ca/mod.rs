//! `ca`: the certificate authorities of the settings, and the harbor's accounts there.

pub mod account;
pub mod list;

use brightharbor_core::harbor::Ca;
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

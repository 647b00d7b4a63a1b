//! Where a record belongs: a zone of the harbor, or a master file anywhere.

use std::path::PathBuf;

use brightharbor_core::name::DnsName;
use brightharbor_core::zone::Zone;
use brightharbor_io::harbor::Harbor;
use clap::Args;

use crate::commands::zone_name;
use crate::error::Error;
use crate::options::IncludeOptions;

/// Where the zone is.
#[derive(Debug, Args)]
pub struct Where {
    /// The zone of this harbor; not needed where the owner is a full name.
    #[arg(long, value_name = "ZONE", conflicts_with_all = ["file", "origin"])]
    zone: Option<String>,
    /// A master file anywhere, instead of a zone of the harbor.
    #[arg(long, value_name = "FILE", requires = "origin")]
    pub file: Option<PathBuf>,
    /// The name of the zone in that file.
    #[arg(long, value_name = "NAME", requires = "file")]
    pub origin: Option<DnsName>,
    #[command(flatten)]
    pub includes: IncludeOptions,
}

impl Where {
    /// The zone that is meant: as given, or the one that holds the owner. An owner need be no hostname (`_dmarc`).
    pub fn zone(&self, harbor: &Harbor, owner: &str) -> Result<Zone, Error> {
        let (shown, start) = match &self.zone {
            Some(zone) => {
                let name = zone_name(zone)?;
                (name.to_string(), name.dns_name())
            }
            None => {
                let typed = owner.trim();
                let bare =
                    typed.split_once("://").map_or(typed, |(_, rest)| rest.split('/').next().unwrap_or_default());
                let name = DnsName::absolute(bare).map_err(|error| Error::wrong_use(format!("`{typed}`: {error}")))?;
                (typed.to_string(), name)
            }
        };
        harbor.store.zone_holding(&start)?.ok_or_else(|| {
            Error::refused("no-zone", format!("no zone of this harbor holds {shown}"))
                .advice("name the zone with --zone, or a master file with --file and --origin")
        })
    }
}

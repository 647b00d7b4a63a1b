//! The harbor as it will be after what the same command has decided already: each decision of a command that makes
//! several rests on those before it.

use std::path::Path;

use brightharbor_core::change::ChangeSet;
use brightharbor_core::zone::{KeptZone, Zone, ZoneHome, ZonePlace};
use brightharbor_io::harbor::Harbor;
use brightharbor_io::install::read_if_there;
use brightharbor_io::zones::{parse_file, read_zone};

use crate::error::{Error, unreadable_zone};

/// A file with what the set does to it.
pub fn content(set: &ChangeSet, path: &Path) -> Result<Option<Vec<u8>>, Error> {
    match set.pending(path) {
        Some(content) => Ok(Some(content.to_vec())),
        None => Ok(read_if_there(path)?),
    }
}

/// A zone with what the set does to it; `None` for one that somebody else keeps.
pub async fn zone(harbor: &Harbor, zone: &Zone, set: &ChangeSet) -> Result<Option<KeptZone>, Error> {
    let path = harbor.layout.zone_file(&zone.name);
    match (zone.home, set.pending(&path)) {
        (ZoneHome::Elsewhere, _) => Ok(None),
        (_, Some(content)) => {
            let directory = harbor.settings.dns.directory.as_deref();
            let document = parse_file(content.to_vec(), &zone.name.dns_name(), directory)
                .map_err(|error| unreadable_zone(&path.display().to_string(), &error))?;
            Ok(Some(KeptZone { zone: zone.clone(), document, place: ZonePlace::File { path } }))
        }
        (_, None) => Ok(Some(read_zone(harbor, zone).await?)),
    }
}

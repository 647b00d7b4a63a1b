//! Where a zone is read from: the harbor, or a master file anywhere. Includes are followed.

use std::path::PathBuf;

use brightharbor_core::name::DnsName;
use brightharbor_core::site::ZoneHome;
use brightharbor_core::zone::{Document, ZoneError};
use brightharbor_io::install::read_if_there;

use crate::commands::hostname;
use crate::error::Error;
use crate::run::Context;

/// A zone's file, read: the document, or where it cannot be read.
pub struct ZoneSource {
    pub origin: DnsName,
    pub path: PathBuf,
    pub document: Result<Document, ZoneError>,
}

/// Reads the zone of the harbor, or the file with its origin.
pub fn read(
    zone: Option<&str>,
    file: Option<&PathBuf>,
    origin: Option<&DnsName>,
    context: &Context,
) -> Result<ZoneSource, Error> {
    let (path, origin) = match (zone, file, origin) {
        (None, Some(file), Some(origin)) => (file.clone(), origin.clone()),
        (Some(zone), None, None) => {
            let name = hostname(zone)?;
            let harbor = context.open()?;
            let zone = harbor.store.zone(&name)?.filter(|zone| zone.home == ZoneHome::Here).ok_or_else(|| {
                Error::refused("no-zone", format!("this harbor keeps no zone {name}"))
                    .advice("see `brightharbor zone list`; a file anywhere is read with --file and --origin")
            })?;
            (harbor.layout.zone_file(&zone.name), zone.name.dns_name())
        }
        _ => {
            return Err(
                Error::wrong_use("which zone?").advice("name a zone of the harbor, or give --file and --origin")
            );
        }
    };
    let bytes = read_if_there(&path)?.ok_or_else(|| {
        Error::refused("zone-file-gone", format!("there is no file {}", path.display())).advice("mend the path")
    })?;
    // A relative name counts from the current directory, as BIND's own checker has it.
    let mut fetch = |name: &str| std::fs::read(name).map_err(|error| error.to_string());
    let document = Document::parse_with(bytes, &origin, &mut fetch);
    Ok(ZoneSource { origin, path, document })
}

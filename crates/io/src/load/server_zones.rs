//! The zones that the DNS server's own configuration defines beside those of this harbor, and what taking one over rests
//! on.

use std::path::Path;

use brightharbor_core::render::{DefinedZone, defined_zones};
use brightharbor_core::zone::{CreateZone, TakeOverLoaded};

use super::LoadError;
use crate::harbor::Harbor;
use crate::master_file::{Includes, parse_file};
use crate::overlay::Overlay;
use crate::server::configuration;

/// Those that the files of the server define, the harbor's own ones left out.
///
/// # Errors
/// Where the main file cannot be read.
pub fn server_zones(harbor: &Harbor) -> std::io::Result<Vec<DefinedZone>> {
    let dns = &harbor.settings.dns;
    let Some(main_file) = dns.main_file.as_deref() else { return Ok(vec![]) };
    let files = configuration(main_file, harbor.layout.root())?;
    Ok(defined_zones(dns.server, &files, dns.directory.as_deref()))
}

/// Loads for taking one of them over; `all` are the zones of the server.
pub async fn take_over(
    overlay: &Overlay<'_>,
    request: &CreateZone,
    all: &[DefinedZone],
) -> Result<TakeOverLoaded, LoadError> {
    let (layout, dns) = (&overlay.layout, &overlay.settings.dns);
    let domain = &request.domain;
    let defined: Vec<DefinedZone> = all.iter().filter(|zone| zone.name == domain.as_str()).cloned().collect();
    let (mut configuration, mut read) = (vec![], Err("no file is named for it".to_string()));
    if let [one] = &defined[..] {
        configuration = overlay.file(&one.defined_in)?.unwrap_or_default();
        if let Some(file) = &one.file {
            // Relative names in it count from where the server works.
            let includes = Includes::OfServer(dns.directory.as_deref().or(file.parent()).or(Some(Path::new("/"))));
            read = match overlay.file(file)? {
                None => Err(format!("{} is not there", file.display())),
                Some(bytes) => parse_file(bytes, &domain.dns_name(), includes)
                    .map_err(|error| format!("{}: {error}", file.display())),
            };
        }
    }
    let serials = overlay.served_serials(domain).await?;
    let catalog = dns.catalog.as_ref().map(|catalog| overlay.file(&layout.zone_file(catalog))).transpose()?;
    Ok(TakeOverLoaded {
        owner: overlay.account(&request.account)?,
        known: overlay.zone(domain)?,
        defined,
        configuration,
        read,
        served: serials.iter().find(|(server, _)| Some(*server) == dns.address).map(|(_, serial)| *serial),
        zone_list: overlay.file(&layout.zone_list_of(dns.server, domain))?,
        catalog: catalog.flatten(),
        in_the_way: layout.zone_file(domain).symlink_metadata().is_ok(),
    })
}

//! Where a zone is read from: the harbor, or a master file anywhere. Includes are followed.

use std::path::{Path, PathBuf};

use brightharbor_core::name::DnsName;
use brightharbor_core::render::DefinedZone;
use brightharbor_core::zone::Document;
use brightharbor_core::zone::rules::Surroundings;
use brightharbor_core::zone::{Zone, ZoneHome};
use brightharbor_io::harbor::Harbor;
use brightharbor_io::install::read_if_there;
use brightharbor_io::load;
use brightharbor_io::master_file::parse_file;
use brightharbor_io::zones::{ZoneReadError, read_zone};

use crate::commands::zone_name;
use crate::error::{Error, Exit, unreadable_zone};
use crate::options::IncludeOptions;
use crate::run::Context;
use brightharbor_io::load::surroundings;

/// A zone, read.
pub struct ZoneSource {
    pub origin: DnsName,
    pub document: Document,
    /// What is known about it beside its records; nothing, for a file anywhere.
    pub around: Surroundings,
}

/// Reads the zone of the harbor, or the file with its origin. For those who ask what is wrong with it, a zone that
/// cannot be read is a fault that was found.
pub fn read(
    zone: Option<&str>,
    file: Option<&PathBuf>,
    origin: Option<&DnsName>,
    includes: IncludeOptions,
    context: &Context,
) -> Result<ZoneSource, Error> {
    match (zone, file, origin) {
        (None, Some(file), Some(origin)) => {
            let document = read_file(file, origin, includes).map_err(found)?;
            Ok(ZoneSource { origin: origin.clone(), document, around: Surroundings::default() })
        }
        (Some(typed), None, None) => {
            let harbor = context.open()?;
            let zone = find(&harbor, typed)?;
            let kept = context.block_on(read_zone(&harbor, &zone))?.map_err(|error| found(error.into()))?;
            let around = surroundings(&harbor, &zone)?;
            Ok(ZoneSource { origin: zone.name.dns_name(), document: kept.document, around })
        }
        _ => {
            Err(Error::wrong_use("no zone was named").advice("name a zone of the harbor, or give --file and --origin"))
        }
    }
}

/// The same error as the result of looking for faults.
pub fn found(error: Error) -> Error {
    match error.code {
        "zone-unreadable" => Error { exit: Exit::Fault, ..error },
        _ => error,
    }
}

/// Reads a master file. A relative name in it counts from the current directory, as BIND's own checker has it.
pub fn read_file(file: &Path, origin: &DnsName, includes: IncludeOptions) -> Result<Document, Error> {
    let shown = file.display().to_string();
    let bytes = read_if_there(file)?.ok_or_else(|| {
        Error::refused("zone-file-gone", format!("file not found: {shown}")).advice("correct the path")
    })?;
    parse_file(bytes, origin, includes.of(file, Path::new("."))).map_err(|error| unreadable_zone(&shown, &error))
}

/// A zone of the harbor that can be read, by its name as typed.
pub fn find(harbor: &Harbor, typed: &str) -> Result<Zone, Error> {
    let name = zone_name(typed)?;
    match harbor.store.zone(&name)? {
        Some(zone) if zone.home == ZoneHome::Elsewhere => Err(ZoneReadError::Elsewhere(zone.name).into()),
        Some(zone) => Ok(zone),
        None => Err(Error::refused("no-zone", format!("zone {name} not found in this harbor"))
            .advice(
                "see `brightharbor zone list`; `zone check` and `zone print` read any file with --file and --origin",
            )
            .with("zone", name.as_str())),
    }
}

/// The zones of the server's own configuration; its main file has to be known.
pub fn server_zones(harbor: &Harbor) -> Result<Vec<DefinedZone>, Error> {
    let server = harbor.settings.dns.server;
    if !server.reads_zone_list() {
        return Err(Error::refused("no-dns-server", format!("{} has no configuration to read", server.words()))
            .advice("set `server` under [dns] in harbor.toml to bind, knot or nsd"));
    }
    let Some(main_file) = &harbor.settings.dns.main_file else {
        return Err(Error::refused("no-main-file", "harbor.toml does not say where the DNS server's configuration is")
            .advice("set `main-file` under [dns], such as /etc/bind/named.conf"));
    };
    load::server_zones(harbor).map_err(|error| {
        Error::refused("no-main-file", format!("cannot read {}: {error}", main_file.display()))
            .advice("correct `main-file` under [dns] in harbor.toml, or run as a user who may read it")
    })
}

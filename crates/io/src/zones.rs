//! Reads a zone from where it is kept, so that it can be changed: from its file, or from the server that holds it.
//!
//! A zone that the server here holds as dynamic is not read from its file: the server has newer data than the file
//! has. How a change gets there is decided by the core's `KeptZone`.

use std::net::SocketAddr;
use std::path::{Path, PathBuf};

use brightharbor_core::change::ExistingFile;
use brightharbor_core::harbor::{DnsServer, Settings};
use brightharbor_core::name::Hostname;
use brightharbor_core::zone::{Document, ZoneError};
use brightharbor_core::zone::{KeptZone, Zone, ZoneHome, ZonePlace, updated_at};

use crate::dns::{KeyFileError, RequestError, TransactionKey, takes_updates, transfer};
use crate::harbor::Harbor;
use crate::install::{FileError, link_target, read_if_there};
use crate::master_file::{Includes, parse_file};
use crate::overlay::NotAsked;

/// Why a zone could not be read.
#[derive(Debug, thiserror::Error)]
pub enum ZoneReadError {
    #[error("the zone file {0} is gone")]
    Gone(PathBuf),
    #[error("{path}: {error}")]
    Unreadable { path: PathBuf, error: Box<ZoneError> },
    #[error(transparent)]
    File(#[from] FileError),
    #[error("the zone {0} is kept elsewhere")]
    Elsewhere(Hostname),
    #[error("harbor.toml has no primary `{primary}`, where the zone {zone} is kept")]
    UnknownPrimary { zone: Hostname, primary: String },
    #[error(transparent)]
    Key(#[from] KeyFileError),
    #[error("the zone {zone} cannot be read: {error}")]
    Transfer { zone: Hostname, error: RequestError },
    #[error("what {server} sent as the zone {zone} cannot be understood: {error}")]
    Foreign { zone: Hostname, server: SocketAddr, error: Box<ZoneError> },
    #[error("the server holds the zone {0} as dynamic: there is a journal beside its file, with newer data")]
    Dynamic(Hostname),
    #[error(transparent)]
    NotAsked(#[from] NotAsked),
}

/// Reads the zone to be changed.
pub async fn read_zone(harbor: &Harbor, zone: &Zone) -> Result<KeptZone, ZoneReadError> {
    match where_kept(&harbor.settings, zone).await? {
        Some((server, key_file)) => transfer_zone(zone, server, &key_file).await,
        None => read_zone_file(harbor, zone, read_if_there(&harbor.layout.zone_file(&zone.name))?),
    }
}

/// The server that a zone is read from, with the file of the key for it; `None`: its file here is the truth.
pub(crate) async fn where_kept(
    settings: &Settings,
    zone: &Zone,
) -> Result<Option<(SocketAddr, PathBuf)>, ZoneReadError> {
    match zone.home {
        ZoneHome::Elsewhere => Err(ZoneReadError::Elsewhere(zone.name.clone())),
        ZoneHome::Remote => primary_of(settings, zone).map(Some),
        ZoneHome::Here => held_by_server(settings, &zone.name).await,
    }
}

/// Reads a zone from the server that holds it.
pub(crate) async fn transfer_zone(zone: &Zone, server: SocketAddr, key_file: &Path) -> Result<KeptZone, ZoneReadError> {
    let key = TransactionKey::read(key_file)?;
    let records = transfer(server, &zone.name.dns_name(), Some(&key))
        .await
        .map_err(|error| ZoneReadError::Transfer { zone: zone.name.clone(), error })?;
    let document = Document::of_records(&records, &zone.name.dns_name()).map_err(|error| ZoneReadError::Foreign {
        zone: zone.name.clone(),
        server,
        error: Box::new(error),
    })?;
    let place = ZonePlace::Primary { server, key_file: key_file.to_path_buf() };
    Ok(KeptZone { zone: zone.clone(), document, place })
}

/// The primary server of a remote zone, and the file of the key for it.
fn primary_of(settings: &Settings, zone: &Zone) -> Result<(SocketAddr, PathBuf), ZoneReadError> {
    let name = zone.primary.clone().unwrap_or_default();
    let primary = settings
        .primaries
        .get(&name)
        .ok_or_else(|| ZoneReadError::UnknownPrimary { zone: zone.name.clone(), primary: name })?;
    Ok((primary.address.socket(settings.internet.dns_port()), primary.key_file.clone()))
}

/// Where the server here takes updates of the zone, which makes it a dynamic one: told by one packet.
async fn held_by_server(settings: &Settings, zone: &Hostname) -> Result<Option<(SocketAddr, PathBuf)>, ZoneReadError> {
    let Some((server, key_file)) = updated_at(settings) else { return Ok(None) };
    let key = TransactionKey::read(&key_file)?;
    match takes_updates(server, &zone.dns_name(), &key).await {
        Ok(true) => Ok(Some((server, key_file))),
        Ok(false) => Ok(None),
        Err(error) => Err(ZoneReadError::Transfer { zone: zone.clone(), error }),
    }
}

/// A zone from its file, as it was read.
pub(crate) fn read_zone_file(harbor: &Harbor, zone: &Zone, content: ExistingFile) -> Result<KeptZone, ZoneReadError> {
    read_file_at(harbor, zone, harbor.layout.zone_file(&zone.name), content)
}

/// The same from a file elsewhere.
pub(crate) fn read_file_at(
    harbor: &Harbor,
    zone: &Zone,
    path: PathBuf,
    content: ExistingFile,
) -> Result<KeptZone, ZoneReadError> {
    let bytes = content.ok_or_else(|| ZoneReadError::Gone(path.clone()))?;
    // Beside the file itself, where a link leads to it.
    let mut journal = link_target(&path).unwrap_or_else(|| path.clone()).into_os_string();
    journal.push(".jnl");
    // That of a zone that BIND signs only has what was loaded from the file: its signed form has another.
    let is_bind = harbor.settings.dns.server == DnsServer::Bind;
    if is_bind && zone.signing.is_none() && Path::new(&journal).exists() {
        return Err(ZoneReadError::Dynamic(zone.name.clone()));
    }
    let document =
        parse_file(bytes, &zone.name.dns_name(), Includes::OfServer(harbor.settings.dns.directory.as_deref()))
            .map_err(|error| ZoneReadError::Unreadable { path: path.clone(), error: Box::new(error) })?;
    Ok(KeptZone { zone: zone.clone(), document, place: ZonePlace::File { path } })
}

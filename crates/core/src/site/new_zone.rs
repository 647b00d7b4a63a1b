//! The decision to make a new zone: from the template, with its place in the DNS server's list.
//!
//! Used by `attach` for a new domain, and alone for a domain whose names are served elsewhere.

use std::net::IpAddr;
use std::path::PathBuf;

use jiff::civil::Date;

use super::ExistingFile;
use crate::change::{Change, FileWrite, Purpose};
use crate::finding::Finding;
use crate::harbor::{DnsServer, Layout, Settings};
use crate::name::{DnsName, Hostname};
use crate::render;
use crate::zone::rules::judge_loading;
use crate::zone::{BUILT_IN_TEMPLATE, Document, Mail, TemplateError, TemplateValues, from_template};

/// What is asked for.
#[derive(Debug, Clone)]
pub struct NewZone<'a> {
    pub domain: &'a Hostname,
    /// Where the mail of the domain goes.
    pub mail: Mail,
    pub today: Date,
}

/// The files that a new zone meets.
#[derive(Debug, Clone, Default)]
pub struct NewZoneFiles {
    /// What lies where its file would go.
    pub zone_file: ExistingFile,
    /// The part of the zone list that it would stand in.
    pub zone_list: ExistingFile,
    /// The harbor's own template of new zones.
    pub template: ExistingFile,
}

#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NewZoneRefused {
    #[error("the settings name no nameservers for new zones")]
    NoNameservers,
    #[error("the nameserver {} lies inside the new zone, and the settings name no address for it", .0.bare())]
    NameserverAddress(DnsName),
    #[error("a file that brightharbor does not know is in the way: {0}")]
    InTheWay(PathBuf),
    #[error("the new zone would not be loaded: {} ({})", .0.message, .0.code)]
    Unsound(Finding),
    #[error("the new zone cannot be made: {0}")]
    Template(#[from] TemplateError),
}

/// Decides the files of a new zone.
pub fn new_zone(
    wanted: &NewZone<'_>,
    files: &NewZoneFiles,
    settings: &Settings,
    layout: &Layout,
) -> Result<(Vec<Change>, Document), NewZoneRefused> {
    let path = layout.zone_file(wanted.domain);
    if files.zone_file.is_some() {
        return Err(NewZoneRefused::InTheWay(path));
    }
    let zone = fill_template(wanted, files, settings)?;
    if let Some(finding) = judge_loading(&zone).into_iter().next() {
        return Err(NewZoneRefused::Unsound(finding));
    }
    let purpose = Purpose::ZoneFile { zone: wanted.domain.clone() };
    let mut changes = vec![Change::WriteFile(FileWrite::new(path.clone(), None, zone.source(), 0o644, purpose))];
    if settings.dns.server == DnsServer::Bind {
        let list = String::from_utf8_lossy(files.zone_list.as_deref().unwrap_or_default()).into_owned();
        let text = render::with_zone(&list, wanted.domain, &path);
        let (part, before) = (layout.zone_list_of(wanted.domain), files.zone_list.clone());
        changes.push(Change::WriteFile(FileWrite::new(part, before, text, 0o644, Purpose::ZoneList)));
    }
    Ok((changes, zone))
}

fn fill_template(wanted: &NewZone<'_>, files: &NewZoneFiles, settings: &Settings) -> Result<Document, NewZoneRefused> {
    let primary = settings.host.nameservers.first().ok_or(NewZoneRefused::NoNameservers)?;
    let nameserver_addresses = own_nameservers(wanted.domain, settings)?;
    let hostmaster = settings.host.hostmaster.clone().unwrap_or_else(|| hostmaster_of(primary));
    let template = match &files.template {
        Some(bytes) => String::from_utf8(bytes.clone()).map_err(|_| TemplateError::NotText)?,
        None => BUILT_IN_TEMPLATE.to_string(),
    };
    let values = TemplateValues {
        domain: wanted.domain,
        nameservers: &settings.host.nameservers,
        nameserver_addresses: &nameserver_addresses,
        hostmaster: &hostmaster,
        addresses: &settings.host.addresses,
        mail: wanted.mail,
        today: wanted.today,
    };
    Ok(from_template(&template, &values)?)
}

/// The addresses of the nameservers that lie inside the domain itself: without them nobody finds the servers.
fn own_nameservers(domain: &Hostname, settings: &Settings) -> Result<Vec<(DnsName, IpAddr)>, NewZoneRefused> {
    let zone = domain.dns_name();
    let mut all = Vec::new();
    for name in settings.host.nameservers.iter().filter(|name| name.is_within(&zone)) {
        let addresses = settings.host.nameserver_addresses.get(name).filter(|addresses| !addresses.is_empty());
        let addresses = addresses.ok_or_else(|| NewZoneRefused::NameserverAddress(name.clone()))?;
        all.extend(addresses.iter().map(|address| (name.clone(), *address)));
    }
    Ok(all)
}

/// `hostmaster` beside the primary nameserver, the custom of RFC 2142 section 7.
fn hostmaster_of(primary: &DnsName) -> DnsName {
    let parent = primary.parent().filter(|parent| !parent.is_root()).unwrap_or_else(|| primary.clone());
    DnsName::parse("hostmaster", &parent).unwrap_or(parent)
}

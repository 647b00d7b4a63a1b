//! The decision to make a new zone: from its pattern, with its place in the DNS server's list.
//!
//! Used by `attach` for a new domain, and alone for a domain whose names are served elsewhere.

use std::path::PathBuf;

use jiff::civil::Date;

use super::{Zone, ZoneHome};
use crate::account::AccountName;
use crate::change::{Change, ExistingFile, FileWrite, InventoryChange, Purpose};
use crate::finding::Finding;
use crate::harbor::{Layout, NewZones, Settings};
use crate::name::Hostname;
use crate::render;
use crate::zone::rules::judge_loading;
use crate::zone::{
    CarriedOver, Document, EditError, FormerWish, FormerZone, Mail, Pattern, PatternChoice, PatternError,
    TemplateError, TemplateName, ZoneError, carry_over, first_serial, next_serial, serial_is_newer,
};

/// What is asked for.
#[derive(Debug, Clone)]
pub struct NewZone<'a> {
    pub domain: &'a Hostname,
    pub account: &'a AccountName,
    pub design: &'a ZoneDesign,
    /// The zone as it is to be, where it does not come from a template.
    pub content: Option<Document>,
    pub today: Date,
}

/// What a new zone is to look like.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ZoneDesign {
    pub template: TemplateName,
    /// Where the mail of the domain goes.
    pub mail: Mail,
    /// A nameserver set of the settings; that of `[host]` when not named.
    pub nameserver_set: Option<String>,
    /// What becomes of the zone that the world uses for the domain today.
    pub former: FormerWish,
    /// Others serve the names of the domain: its zone gets no addresses, now or later.
    pub without_addresses: bool,
}

impl ZoneDesign {
    /// The default template with the nameservers of `[host]`.
    pub fn plain(mail: Mail) -> Self {
        Self {
            template: TemplateName::default(),
            mail,
            nameserver_set: None,
            former: FormerWish::Look,
            without_addresses: false,
        }
    }

    /// The pattern of the design under these settings; `file` is the content of the template's file.
    pub fn pattern(&self, file: Option<&[u8]>, settings: &Settings) -> Result<Pattern, PatternError> {
        let choice = PatternChoice {
            template: &self.template,
            file,
            mail: &self.mail,
            nameserver_set: self.nameserver_set.as_deref(),
            without_addresses: self.without_addresses,
        };
        Pattern::of(&choice, settings)
    }
}

/// The files that a new zone meets.
#[derive(Debug, Clone, Default)]
pub struct NewZoneFiles {
    /// Where the DNS server's own configuration defines the zone already: the file and the line (from 1).
    pub defined: Option<(PathBuf, usize)>,
    /// The serial that the DNS server answers with for it already.
    pub served: Option<u32>,
    /// The newest serial that any of our servers still has of it, from another time.
    pub known_serial: Option<u32>,
    /// What lies where its file would go.
    pub zone_file: ExistingFile,
    /// The part of the zone list that it would stand in.
    pub zone_list: ExistingFile,
    /// The index of the zone list.
    pub index: ExistingFile,
    /// The harbor's own template of new zones.
    pub template: ExistingFile,
    /// The catalog zone, where the settings name one.
    pub catalog: ExistingFile,
    /// The zone that the world uses today, where it is not ours and is to be carried over.
    pub former: Option<FormerZone>,
}

/// A new zone, decided.
#[derive(Debug, Clone)]
pub struct MadeZone {
    pub changes: Vec<Change>,
    pub document: Document,
    /// What came from the zone of before.
    pub carried: Option<CarriedOver>,
}

#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NewZoneRefused {
    #[error(transparent)]
    Pattern(#[from] PatternError),
    #[error("the DNS server's own configuration defines {zone} already: {}:{line}", .file.display())]
    Defined { zone: Hostname, file: PathBuf, line: usize },
    #[error("the DNS server serves {zone} already, with serial {serial}")]
    Served { zone: Hostname, serial: u32 },
    #[error("a file that brightharbor does not know is in the way: {0}")]
    InTheWay(PathBuf),
    #[error("the new zone would not be loaded: {} ({})", .0.message, .0.code)]
    Unsound(Finding),
    #[error("the new zone cannot be made: {0}")]
    Template(#[from] TemplateError),
    #[error("the serial of the zone cannot be raised above that of a secondary: {0}")]
    Serial(EditError),
    #[error("what was carried over from the zone of before cannot stand in a zone file: {0}")]
    Former(ZoneError),
    #[error("with what the zone of before has, the new one would not be loaded: {} ({})", .0.message, .0.code)]
    FormerUnsound(Finding),
    #[error("the catalog zone cannot take the new zone: {0}")]
    Catalog(EditError),
}

/// Decides the files of a new zone and its place in the inventory.
pub fn new_zone(
    wanted: &NewZone<'_>,
    files: &NewZoneFiles,
    settings: &Settings,
    layout: &Layout,
) -> Result<MadeZone, NewZoneRefused> {
    let path = layout.zone_file(wanted.domain);
    if let Some((file, line)) = files.defined.clone() {
        return Err(NewZoneRefused::Defined { zone: wanted.domain.clone(), file, line });
    }
    if let Some(serial) = files.served {
        return Err(NewZoneRefused::Served { zone: wanted.domain.clone(), serial });
    }
    if files.zone_file.is_some() {
        return Err(NewZoneRefused::InTheWay(path));
    }
    let (zone, pattern) = match &wanted.content {
        Some(zone) => match files.known_serial.filter(|known| serial_is_newer(*known, zone.soa().serial)) {
            // Secondaries would not take it.
            Some(known) => (zone.raised_above(known, wanted.today).map_err(NewZoneRefused::Serial)?, None),
            None => (zone.clone(), None),
        },
        None => {
            let pattern = wanted.design.pattern(files.template.as_deref(), settings)?;
            let first = first_serial(wanted.today);
            let newest = files.known_serial.filter(|known| !serial_is_newer(first, *known));
            let serial = newest.map_or(first, |known| next_serial(known, wanted.today));
            (pattern.zone(wanted.domain, serial)?, Some(pattern))
        }
    };
    if let Some(finding) = judge_loading(&zone).into_iter().next() {
        return Err(NewZoneRefused::Unsound(finding));
    }
    let (zone, carried) = match files.former.as_ref().filter(|_| wanted.content.is_none()) {
        None => (zone, None),
        Some(former) => {
            let (zone, carried) = carry_over(&zone, former).map_err(NewZoneRefused::Former)?;
            if let Some(finding) = judge_loading(&zone).into_iter().next() {
                return Err(NewZoneRefused::FormerUnsound(finding));
            }
            (zone, Some(carried))
        }
    };
    let purpose = Purpose::ZoneFile { zone: wanted.domain.clone() };
    let mut changes = vec![Change::WriteFile(FileWrite::new(path.clone(), None, zone.source(), 0o644, purpose))];
    let server = settings.dns.server;
    if server.reads_zone_list() && settings.dns.new_zones == NewZones::List {
        let list = String::from_utf8_lossy(files.zone_list.as_deref().unwrap_or_default()).into_owned();
        let index = String::from_utf8_lossy(files.index.as_deref().unwrap_or_default());
        let serving = render::Serving { published: render::is_published(&index), signed_by: None };
        let text = render::with_zone(server, &list, wanted.domain, &path, serving);
        let (part, before) = (layout.zone_list_of(server, wanted.domain), files.zone_list.clone());
        changes.push(Change::WriteFile(FileWrite::new(part, before, text, 0o644, Purpose::ZoneList)));
    }
    let catalog = files.catalog.as_deref();
    changes.extend(super::catalog::with_member(wanted.domain, catalog, wanted.today, settings, layout)?);
    let record = Zone {
        nameserver_set: wanted.design.nameserver_set.clone(),
        pattern: pattern.as_ref().map(Pattern::key),
        ..Zone::new(wanted.domain.clone(), wanted.account.clone(), ZoneHome::Here)
    };
    changes.extend(pattern.map(|pattern| Change::Inventory { to: InventoryChange::KnowPattern(pattern) }));
    changes.push(Change::Inventory { to: InventoryChange::AddZone(record) });
    Ok(MadeZone { changes, document: zone, carried })
}

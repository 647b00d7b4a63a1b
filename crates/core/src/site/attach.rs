//! The decision to attach a hostname: what kind it is, where it is served from, which records and files it needs.
//!
//! Pure: the inventory rows and files concerned come in, a change set goes out. Refusals carry the facts; the
//! advice is added where errors are shown.

use std::path::PathBuf;

use jiff::{Timestamp, civil::Date};

use super::new_zone::{NewZone, NewZoneFiles, NewZoneRefused, ZoneDesign, new_zone};
use super::{
    Account, AccountName, HttpsPolicy, KeptZone, PathError, Site, SiteKind, SiteRules, Waiting, Zone, ZoneHome,
    check_path,
};
use crate::change::{Change, ChangeSet, FileWrite, FolderMake, InventoryChange, Purpose};
use crate::harbor::{Layout, Settings};
use crate::name::{Hostname, registrable_domain};
use crate::render;
use crate::zone::{EditError, Record, RecordData, RecordType};

/// What was asked for.
#[derive(Debug, Clone)]
pub struct AttachRequest {
    pub hostname: Hostname,
    pub account: AccountName,
    pub zone: ZoneChoice,
    /// What the zone of a new domain looks like.
    pub design: ZoneDesign,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ZoneChoice {
    /// In this harbor: a new zone for a new domain, or the enclosing zone.
    Here,
    /// On a primary server of the settings, by its name there: the zone is there already and takes updates.
    Remote(String),
    /// With somebody else: the records are handed over.
    Elsewhere,
}

/// A file as it was read; `None` means that there is none.
pub type ExistingFile = Option<Vec<u8>>;

/// The part of the harbor that the decision rests on.
#[derive(Debug, Clone)]
pub struct AttachLoaded {
    pub account: Option<Account>,
    /// The sites that hold one of the wanted names or one of their ancestors.
    pub related: Vec<Site>,
    /// The nearest enclosing zone: of the inventory, or a new one that is kept remote.
    pub zone: Option<ZoneLoaded>,
    /// The files that a new zone would meet.
    pub new_zone: NewZoneFiles,
    pub site_file: ExistingFile,
}

#[derive(Debug, Clone)]
pub enum ZoneLoaded {
    /// It was read and can be changed.
    Kept(Box<KeptZone>),
    Elsewhere(Zone),
}

impl ZoneLoaded {
    pub fn zone(&self) -> &Zone {
        match self {
            ZoneLoaded::Kept(kept) => &kept.zone,
            ZoneLoaded::Elsewhere(zone) => zone,
        }
    }
}

/// The decision.
#[derive(Debug, Clone)]
pub struct Attachment {
    pub site: Site,
    pub change_set: ChangeSet,
    /// What was made of the request, in sentences.
    pub said: Vec<String>,
}

#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum AttachRefused {
    #[error("there is no account `{0}`")]
    UnknownAccount(AccountName),
    #[error("{hostname} is already attached: as {kind} to the account {account}, served from {document_root}")]
    AlreadyAttached { hostname: Hostname, kind: &'static str, account: AccountName, document_root: PathBuf },
    #[error("{hostname} lies below {domain}, which belongs to the account {owner}")]
    SomebodyElses { hostname: Hostname, domain: Hostname, owner: AccountName },
    #[error("{0} is a public suffix: domains are registered below it, it is none itself")]
    PublicSuffix(Hostname),
    #[error("the settings name no addresses to serve sites at")]
    NoAddresses,
    #[error(transparent)]
    NewZone(#[from] NewZoneRefused),
    #[error("{0}")]
    Path(#[from] PathError),
    #[error("the document root {document_root} lies outside the home {home} of the account")]
    OutsideHome { document_root: PathBuf, home: PathBuf },
    #[error("a file that brightharbor does not know is in the way: {0}")]
    InTheWay(PathBuf),
    #[error("the zone {zone} cannot take the records: {error}")]
    ZoneRefuses { zone: Hostname, error: EditError },
}

/// The names that come with a request: the main one first, and its www twin where it is a domain.
pub fn wanted_names(hostname: &Hostname) -> Vec<Hostname> {
    let domain = registrable_domain(hostname);
    let main = match hostname.without_www() {
        Some(bare) if domain.as_ref() == Some(&bare) => bare,
        _ => hostname.clone(),
    };
    let twin = if domain.as_ref() == Some(&main) { main.with_www() } else { None };
    std::iter::once(main).chain(twin).collect()
}

/// Decides how `request` is fulfilled at `now`.
pub fn attach(
    request: &AttachRequest,
    loaded: &AttachLoaded,
    settings: &Settings,
    layout: &Layout,
    now: Timestamp,
) -> Result<Attachment, AttachRefused> {
    let account = loaded.account.as_ref().ok_or_else(|| AttachRefused::UnknownAccount(request.account.clone()))?;
    let domain =
        registrable_domain(&request.hostname).ok_or_else(|| AttachRefused::PublicSuffix(request.hostname.clone()))?;
    let hostnames = wanted_names(&request.hostname);
    let main = hostnames[0].clone();
    refuse_taken(&hostnames, account, loaded)?;
    if settings.host.addresses.is_empty() {
        return Err(AttachRefused::NoAddresses);
    }
    let kind = if main == domain { SiteKind::AddonDomain } else { SiteKind::Subdomain };
    let document_root = document_root(&settings.sites.document_root, account, &main)?;
    let site = Site {
        account: account.name.clone(),
        hostnames,
        document_root,
        kind,
        https: HttpsPolicy::None,
        certificate: None,
        rules: SiteRules::default(),
    };
    let mut decision = Attachment {
        change_set: ChangeSet::new(format!("attach {main} --account {}", account.name)),
        said: vec![describe(&request.hostname, &site)],
        site: site.clone(),
    };
    let below = site.document_root.strip_prefix(&account.home).expect("checked by document_root").to_path_buf();
    decision.change_set.changes.push(Change::MakeFolder(FolderMake {
        home: account.home.clone(),
        below,
        system_user: account.system_user.clone(),
        mode: 0o755,
        starter_page: Some(render::starter_page(&main)),
    }));
    decide_zone(request, &domain, loaded, settings, layout, now, &mut decision)?;
    if let Some(text) = render::site_file(&site, settings, layout) {
        let path = layout.site_file(settings.web.server, &main);
        if loaded.site_file.is_some() {
            return Err(AttachRefused::InTheWay(path));
        }
        decision.change_set.file(FileWrite::new(path, None, text, 0o644, Purpose::SiteFile));
    }
    decision.change_set.inventory(InventoryChange::AddSite(site));
    if settings.ca.directory.is_some() {
        decision.change_set.inventory(InventoryChange::Await(Waiting {
            site: main,
            since: now,
            not_before: None,
            reason: String::new(),
        }));
    }
    Ok(decision)
}

fn refuse_taken(hostnames: &[Hostname], account: &Account, loaded: &AttachLoaded) -> Result<(), AttachRefused> {
    for hostname in hostnames {
        if let Some(site) = loaded.related.iter().find(|site| site.hostnames.contains(hostname)) {
            return Err(AttachRefused::AlreadyAttached {
                hostname: hostname.clone(),
                kind: site.kind.words(),
                account: site.account.clone(),
                document_root: site.document_root.clone(),
            });
        }
    }
    let somebody_elses = |domain: &Hostname, owner: &AccountName| AttachRefused::SomebodyElses {
        hostname: hostnames[0].clone(),
        domain: domain.clone(),
        owner: owner.clone(),
    };
    if let Some(site) = loaded.related.iter().find(|site| site.account != account.name) {
        return Err(somebody_elses(site.main(), &site.account));
    }
    match loaded.zone.as_ref().map(ZoneLoaded::zone) {
        Some(zone) if zone.account != account.name => Err(somebody_elses(&zone.name, &zone.account)),
        _ => Ok(()),
    }
}

fn document_root(pattern: &str, account: &Account, hostname: &Hostname) -> Result<PathBuf, AttachRefused> {
    let text = pattern
        .replace("{home}", &account.home.to_string_lossy())
        .replace("{account}", account.name.as_str())
        .replace("{hostname}", hostname.as_str());
    let path = PathBuf::from(text);
    check_path(&path)?;
    if path == account.home || !path.starts_with(&account.home) {
        return Err(AttachRefused::OutsideHome { document_root: path, home: account.home.clone() });
    }
    Ok(path)
}

fn describe(typed: &Hostname, site: &Site) -> String {
    let twin = match site.hostnames.get(1) {
        Some(twin) if twin == typed => format!(" together with {twin}, as asked"),
        Some(twin) => format!(" with {twin}"),
        None => String::new(),
    };
    format!(
        "{} is attached as {} to {}{twin}, served from {}",
        site.main(),
        site.kind.words(),
        site.account,
        site.document_root.display()
    )
}

fn decide_zone(
    request: &AttachRequest,
    domain: &Hostname,
    loaded: &AttachLoaded,
    settings: &Settings,
    layout: &Layout,
    now: Timestamp,
    decision: &mut Attachment,
) -> Result<(), AttachRefused> {
    let today = now.to_zoned(jiff::tz::TimeZone::UTC).date();
    match &loaded.zone {
        Some(ZoneLoaded::Kept(kept)) => {
            let new = matches!(request.zone, ZoneChoice::Remote(_)) && kept.zone.name == *domain;
            if new && decision.site.kind == SiteKind::AddonDomain {
                decision.said.push(format!(
                    "the zone {domain} is kept on its primary server, serial {}",
                    kept.document.soa().serial
                ));
                decision.change_set.inventory(InventoryChange::AddZone(kept.zone.clone()));
            }
            add_addresses(kept, settings, today, decision)
        }
        Some(ZoneLoaded::Elsewhere(_)) => Ok(()),
        None if decision.site.kind == SiteKind::AddonDomain && request.zone == ZoneChoice::Here => {
            let wanted = NewZone { domain, account: &request.account, design: &request.design, content: None, today };
            let (changes, zone) = new_zone(&wanted, &loaded.new_zone, settings, layout)?;
            decision.change_set.changes.extend(changes);
            decision.said.push(format!("the zone {domain} is new, serial {}", zone.soa().serial));
            Ok(())
        }
        None if decision.site.kind == SiteKind::AddonDomain => {
            let zone = Zone::new(domain.clone(), request.account.clone(), ZoneHome::Elsewhere);
            decision.change_set.inventory(InventoryChange::AddZone(zone));
            Ok(())
        }
        None => {
            decision.said.push(format!("the zone {domain} is not kept here: its records are handed over below"));
            Ok(())
        }
    }
}

fn add_addresses(
    kept: &KeptZone,
    settings: &Settings,
    today: Date,
    decision: &mut Attachment,
) -> Result<(), AttachRefused> {
    let KeptZone { zone, document, .. } = kept;
    let ttl = crate::zone::default_ttl(document);
    let mut records = Vec::new();
    for hostname in &decision.site.hostnames {
        let owner = hostname.dns_name();
        let present: Vec<&Record> = document.records().filter(|record| record.owner == owner).collect();
        let has_addresses = present.iter().any(|record| record.data.address().is_some());
        if has_addresses || leads_to_domain(&present, &decision.site) {
            decision.said.push(format!("the zone {} has addresses for {hostname} already; they are kept", zone.name));
            continue;
        }
        records.extend(settings.host.addresses.iter().map(|address| Record {
            owner: owner.clone(),
            ttl,
            data: RecordData::of_address(*address),
        }));
    }
    if records.is_empty() {
        return Ok(());
    }
    let edited = document
        .with_records(&records, today)
        .map_err(|error| AttachRefused::ZoneRefuses { zone: zone.name.clone(), error })?;
    for record in &records {
        decision.said.push(format!("zone {}: new record {record}", zone.name));
    }
    decision.change_set.changes.push(kept.change(&edited, &[], &records));
    Ok(())
}

fn leads_to_domain(present: &[&Record], site: &Site) -> bool {
    present.iter().any(|record| match &record.data {
        RecordData::Cname(target) => record.record_type() == RecordType::CNAME && *target == site.main().dns_name(),
        _ => false,
    })
}

#[cfg(test)]
#[path = "attach_tests.rs"]
mod tests;

//! The decision to attach a hostname: what kind it is, where it is served from, which records and files it needs.
//!
//! Pure: the inventory rows and files concerned come in, a change set goes out. Refusals carry the facts; the
//! advice is added where errors are shown.

use std::net::IpAddr;
use std::path::PathBuf;

use jiff::{Timestamp, civil::Date};

use super::attach_places::{only_the_zone, parked, with_own_root};
use super::{Site, WwwPolicy};
use crate::account::{Account, AccountName};
use crate::certificate::Waiting;
use crate::change::{ChangeSet, ExistingFile, FileWrite, InventoryChange, Purpose};
use crate::harbor::{Layout, PathError, Settings};
use crate::name::{DnsName, Hostname, registrable_domain};
use crate::render;
use crate::zone::{
    EditError, KeptZone, NewZone, NewZoneFiles, NewZoneRefused, Record, RecordData, RecordType, Zone, ZoneDesign,
    ZoneHome, new_zone, serial_date,
};

/// What was asked for.
#[derive(Debug, Clone)]
pub struct AttachRequest {
    pub hostname: Hostname,
    pub account: AccountName,
    pub zone: ZoneChoice,
    /// What the zone of a new domain looks like.
    pub design: ZoneDesign,
    /// Whether its `www.` twin comes along; `None`: as is usual, with a domain and not below one.
    pub www: Option<WwwPolicy>,
    pub place: ServedFrom,
}

/// Where the pages of a hostname come from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ServedFrom {
    /// A document root of its own: computed, or given, relative to the home or absolute inside it.
    OwnRoot {
        given: Option<PathBuf>,
        /// Whether a given folder may be there already.
        existing: bool,
    },
    /// The site of another hostname: a parked domain.
    SameAs(Hostname),
    /// A server of somebody else, by an alias record.
    Elsewhere(DnsName),
    /// Nowhere here: only the zone is kept, without addresses.
    Nowhere,
}

impl ServedFrom {
    /// A new folder, as the settings say.
    pub fn new_root() -> Self {
        ServedFrom::OwnRoot { given: None, existing: false }
    }
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
    /// The site that a parked domain joins, with its file.
    pub joined: Option<(Site, ExistingFile)>,
    /// Whether a folder is where a given document root would be.
    pub root_is_there: bool,
    /// A site whose document root is the same, or above or below.
    pub shares_root: Option<Hostname>,
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
    #[error("{0} is no address of this machine, as `addresses` under [host] and `listen` under [web] say")]
    NotOurAddress(IpAddr),
    #[error("a file that brightharbor does not know is in the way: {0}")]
    InTheWay(PathBuf),
    #[error("the folder {0} is there already")]
    RootIsThere(PathBuf),
    #[error("{0} is not attached")]
    NotAttached(Hostname),
    #[error("{0} leads back to {1} itself")]
    LeadsBack(DnsName, Hostname),
    #[error("{0} is a domain of its own, where an alias would take the place of its mail and nameservers")]
    AliasAtApex(Hostname),
    #[error("no zone of this harbor holds {0}")]
    NoZone(Hostname),
    #[error("there is nothing to attach for {0} without a site: it is no domain, or its zone is there already")]
    NothingToServe(Hostname),
    #[error("the zone {zone} cannot take the records: {error}")]
    ZoneRefuses { zone: Hostname, error: EditError },
}

/// The names that come with a request: the main one first, and its www twin where it is a domain or was asked for.
pub fn wanted_names(hostname: &Hostname, www: Option<WwwPolicy>) -> Vec<Hostname> {
    let domain = registrable_domain(hostname);
    let asked = www.is_some_and(|policy| policy != WwwPolicy::None);
    let main = match hostname.without_www() {
        Some(bare) if www != Some(WwwPolicy::None) && (asked || domain.as_ref() == Some(&bare)) => bare,
        _ => hostname.clone(),
    };
    let with_twin = asked || (www.is_none() && domain.as_ref() == Some(&main));
    let twin = if with_twin { main.with_www() } else { None };
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
    if let Some(address) = request.hostname.address() {
        return by_address(request, address, account, loaded, settings, layout);
    }
    let domain =
        registrable_domain(&request.hostname).ok_or_else(|| AttachRefused::PublicSuffix(request.hostname.clone()))?;
    let hostnames = wanted_names(&request.hostname, request.www);
    let main = hostnames[0].clone();
    refuse_taken(&hostnames, account, loaded, &settings.sites.provider_domains)?;
    if let ServedFrom::Elsewhere(target) = &request.place {
        return super::served_elsewhere::attach(&request.hostname, target, account, loaded, now);
    }
    if request.place == ServedFrom::Nowhere {
        return only_the_zone(request, &domain, account, loaded, settings, layout, now);
    }
    if settings.host.addresses.is_empty() {
        return Err(AttachRefused::NoAddresses);
    }
    let mut decision = match &request.place {
        ServedFrom::SameAs(other) => parked(other, hostnames, loaded, settings, layout)?,
        _ => with_own_root(request, account, hostnames, domain == main, loaded, settings, layout)?,
    };
    decide_zone(request, &domain, loaded, settings, layout, now, &mut decision)?;
    if !matches!(request.place, ServedFrom::SameAs(_)) {
        add_site(&mut decision, loaded, settings, layout)?;
    }
    if settings.ca.directory.is_some() {
        let site = decision.site.main().clone();
        let waiting = Waiting { site, since: now, not_before: None, reason: String::new() };
        decision.change_set.inventory(InventoryChange::Await(waiting));
    }
    Ok(decision)
}

/// A site without a name: a folder and a web server file, no zone, and no certificate.
fn by_address(
    request: &AttachRequest,
    address: IpAddr,
    account: &Account,
    loaded: &AttachLoaded,
    settings: &Settings,
    layout: &Layout,
) -> Result<Attachment, AttachRefused> {
    if !settings.host.addresses.contains(&address) && !settings.web.listen.contains(&address) {
        return Err(AttachRefused::NotOurAddress(address));
    }
    let hostnames = vec![request.hostname.clone()];
    refuse_taken(&hostnames, account, loaded, &settings.sites.provider_domains)?;
    let mut decision = with_own_root(request, account, hostnames, false, loaded, settings, layout)?;
    add_site(&mut decision, loaded, settings, layout)?;
    Ok(decision)
}

/// The new site's file and its place in the inventory.
fn add_site(
    decision: &mut Attachment,
    loaded: &AttachLoaded,
    settings: &Settings,
    layout: &Layout,
) -> Result<(), AttachRefused> {
    let site = decision.site.clone();
    if let Some(text) = render::site_file(&site, settings, layout) {
        let path = layout.site_file(settings.web.server, site.main());
        if loaded.site_file.is_some() {
            return Err(AttachRefused::InTheWay(path));
        }
        decision.change_set.file(FileWrite::new(path, None, text, 0o644, Purpose::SiteFile));
    }
    decision.change_set.inventory(InventoryChange::AddSite(site));
    Ok(())
}

fn refuse_taken(
    hostnames: &[Hostname],
    account: &Account,
    loaded: &AttachLoaded,
    provider_domains: &[Hostname],
) -> Result<(), AttachRefused> {
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
    // Below a domain of the provider anybody may have a name; what lies below that name is its owner's again.
    let provided = |name: &Hostname| provider_domains.contains(name) && hostnames[0] != *name;
    let foreign = |site: &&Site| site.account != account.name && !site.hostnames.iter().any(provided);
    if let Some(site) = loaded.related.iter().find(foreign) {
        return Err(somebody_elses(site.main(), &site.account));
    }
    match loaded.zone.as_ref().map(ZoneLoaded::zone) {
        Some(zone) if zone.account != account.name && !provided(&zone.name) => {
            Err(somebody_elses(&zone.name, &zone.account))
        }
        _ => Ok(()),
    }
}

pub(super) fn decide_zone(
    request: &AttachRequest,
    domain: &Hostname,
    loaded: &AttachLoaded,
    settings: &Settings,
    layout: &Layout,
    now: Timestamp,
    decision: &mut Attachment,
) -> Result<(), AttachRefused> {
    let today = serial_date(now);
    let is_domain = wanted_names(&request.hostname, request.www)[0] == *domain;
    match &loaded.zone {
        Some(ZoneLoaded::Kept(kept)) => {
            let new = matches!(request.zone, ZoneChoice::Remote(_)) && kept.zone.name == *domain;
            if new && is_domain {
                decision.said.push(format!(
                    "the zone {domain} is kept on its primary server, serial {}",
                    kept.document.soa().serial
                ));
                decision.change_set.inventory(InventoryChange::AddZone(kept.zone.clone()));
            }
            let wanted = wanted_names(&request.hostname, request.www);
            add_addresses(kept, &wanted, settings, today, decision)
        }
        Some(ZoneLoaded::Elsewhere(_)) => Ok(()),
        None if is_domain && request.zone == ZoneChoice::Here => {
            let of_account = loaded.account.as_ref().and_then(|account| account.nameserver_set.clone());
            let nameserver_set = request.design.nameserver_set.clone().or(of_account);
            let design = ZoneDesign { nameserver_set, ..request.design.clone() };
            let wanted = NewZone { domain, account: &request.account, design: &design, content: None, today };
            let (changes, zone) = new_zone(&wanted, &loaded.new_zone, settings, layout)?;
            decision.change_set.extend(changes);
            decision.said.push(format!("the zone {domain} is new, serial {}", zone.soa().serial));
            Ok(())
        }
        None if is_domain => {
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
    wanted: &[Hostname],
    settings: &Settings,
    today: Date,
    decision: &mut Attachment,
) -> Result<(), AttachRefused> {
    let KeptZone { zone, document, .. } = kept;
    let ttl = crate::zone::default_ttl(document);
    let mut records = Vec::new();
    for hostname in wanted {
        let owner = hostname.dns_name();
        let present: Vec<&Record> = document.records().filter(|record| record.owner == owner).collect();
        let has_addresses = present.iter().any(|record| record.data.address().is_some());
        if has_addresses || leads_to_domain(&present, &wanted[0]) {
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
    decision.change_set.extend(vec![kept.change(&edited, &[], &records)]);
    Ok(())
}

fn leads_to_domain(present: &[&Record], main: &Hostname) -> bool {
    present.iter().any(|record| match &record.data {
        RecordData::Cname(target) => record.record_type() == RecordType::CNAME && *target == main.dns_name(),
        _ => false,
    })
}

#[cfg(test)]
#[path = "attach_tests.rs"]
mod tests;

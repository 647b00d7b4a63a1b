//! The decision to attach a hostname: what kind it is, where it is served from, which records and files it needs.
//!
//! Pure: the inventory rows and files concerned come in, a plan goes out. Words are made where it is shown.

use std::collections::BTreeMap;
use std::net::IpAddr;
use std::path::PathBuf;

use jiff::Timestamp;

use super::attach_beside::{ask_for_answered, ask_for_listeners, refuse_by_hand};
use super::attach_places::{alias_domain, only_the_zone, with_own_root};
use super::attach_zone::decide_zone;
use super::{AnsweredBefore, ByHand, ContentWish, Site, SiteRefusal, SiteRemark, WwwPolicy};
use crate::account::{Account, AccountName, AccountPlan, Counted, Usage, check_limit};
use crate::change::{ExistingFile, FileWrite, InventoryChange, Plan, Purpose};
use crate::harbor::{Layout, Settings};
use crate::name::{DnsName, Host, Hostname, HostnameError, is_registrable, registrable_domain};
use crate::render::{self, Clash};
use crate::zone::{FormerWish, KeptZone, NewZoneFiles, Zone, ZoneDesign};

/// What was asked for.
#[derive(Debug, Clone)]
pub struct AttachRequest {
    pub hostname: Host,
    pub account: AccountName,
    pub zone: ZoneChoice,
    /// What the zone of a new domain looks like.
    pub design: ZoneDesign,
    /// Whether its `www.` twin is attached too; `None`: as is usual, with a domain and not below one.
    pub www: Option<WwwPolicy>,
    pub place: ServedFrom,
    /// What answers at its paths, for a site of its own.
    pub content: ContentWish,
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
    /// The site of another hostname: an alias domain.
    SameAs(Host),
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

    /// Whether the web server here answers for the name.
    pub fn is_here(&self) -> bool {
        matches!(self, ServedFrom::OwnRoot { .. } | ServedFrom::SameAs(_))
    }
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ZoneChoice {
    /// In this harbor: a new zone for a new domain, or the enclosing zone.
    Here,
    /// On a primary server of the settings, by its name there: the zone already exists and takes updates.
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
    /// The domain that the names are of, where the DNS shows another than the public suffix list guesses.
    pub shown_domain: Option<Hostname>,
    /// The nearest enclosing zone: of the inventory, or a new one that is kept remote.
    pub zone: Option<ZoneLoaded>,
    /// The files that a new zone would meet.
    pub new_zone: NewZoneFiles,
    pub site_file: ExistingFile,
    /// Where the web server's own configuration serves one of the names already.
    pub by_hand: Option<ByHand>,
    /// Where that server answers for one of them already, whatever its files say.
    pub answered: Option<AnsweredBefore>,
    /// A block of that configuration which cannot stand beside ours, with its file.
    pub clash: Option<(PathBuf, Clash)>,
    /// Whether no site is served here so far.
    pub is_first: bool,
    /// The site that an alias domain joins, with its file.
    pub joined: Option<(Site, ExistingFile)>,
    /// Whether a folder is where a given document root would be.
    pub root_is_there: bool,
    /// Whether every user of this machine can read it.
    pub root_is_open: bool,
    /// A site whose document root is the same, or above or below.
    pub shares_root: Option<Host>,
    /// The hash of the directives that somebody has written for it, before or after it was here before.
    pub own: Option<String>,
    /// A domain of the harbor that a new one looks much like.
    pub near_miss: Option<Hostname>,
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

/// The decision, with the site as it will be.
#[derive(Debug, Clone)]
pub struct Attachment {
    pub site: Site,
    /// Those of its hosts that are new.
    pub hosts: Vec<Host>,
    pub plan: Plan,
}

/// The names that come with a request: the main one first, and its www twin where it is a domain or was asked for.
pub fn wanted_names(host: &Host, www: Option<WwwPolicy>) -> Vec<Host> {
    let Host::Name(hostname) = host else { return vec![host.clone()] };
    let domain = registrable_domain(hostname);
    let asked = www.is_some_and(|policy| policy != WwwPolicy::None);
    let main = match hostname.without_www() {
        Some(bare) if www != Some(WwwPolicy::None) && (asked || domain.as_ref() == Some(&bare)) => bare,
        _ => hostname.clone(),
    };
    let with_twin = asked || (www.is_none() && domain.as_ref() == Some(&main));
    let twin = if with_twin { main.with_www() } else { None };
    std::iter::once(main).chain(twin).map(Host::Name).collect()
}

/// The same site under a name of the provider: `crumbandtide-example` below its domain.
pub fn preview_of(request: &AttachRequest, provided: &Hostname) -> Result<AttachRequest, HostnameError> {
    let main = wanted_names(&request.hostname, request.www)[0].clone();
    let label: String = main.as_str().replace('.', "-").chars().take(63).collect();
    Ok(AttachRequest {
        hostname: Host::parse(&format!("{}.{provided}", label.trim_end_matches('-')))?,
        www: Some(WwwPolicy::None),
        place: ServedFrom::SameAs(main),
        // It lies in a zone of the provider's.
        design: ZoneDesign { former: FormerWish::Bare, ..request.design.clone() },
        ..request.clone()
    })
}

/// Refuses what the plan of the account does not allow. All requests are of one account.
pub fn refuse_beyond_plan(requests: &[AttachRequest], limit: Option<&(AccountPlan, Usage)>) -> Result<(), SiteRefusal> {
    let (Some((plan, usage)), Some(first)) = (limit, requests.first()) else { return Ok(()) };
    let mut more: BTreeMap<Counted, u32> = BTreeMap::new();
    for request in requests {
        let main = &wanted_names(&request.hostname, request.www)[0];
        let counted = match (&request.place, main.name().is_some_and(is_registrable)) {
            // A preview is no alias domain: it lies below the provider's.
            (ServedFrom::SameAs(_), false) => continue,
            (ServedFrom::Elsewhere(_) | ServedFrom::Nowhere, _) => continue,
            (ServedFrom::SameAs(_), _) => Counted::AliasDomains,
            (_, _) if main.address().is_some() => continue,
            (_, true) => Counted::AddonDomains,
            (_, false) => Counted::Subdomains,
        };
        *more.entry(counted).or_insert(0) += 1;
    }
    for (counted, more) in more {
        check_limit(&first.account, plan, usage, counted, more)?;
    }
    Ok(())
}

/// Decides how `request` is fulfilled at `now`.
pub fn attach(
    request: &AttachRequest,
    loaded: &AttachLoaded,
    settings: &Settings,
    layout: &Layout,
    now: Timestamp,
) -> Result<Attachment, SiteRefusal> {
    let account = loaded.account.as_ref().ok_or_else(|| SiteRefusal::UnknownAccount(request.account.clone()))?;
    let hostname = match &request.hostname {
        Host::Address(_) => return by_address(request, account, loaded, settings, layout),
        Host::Name(hostname) => hostname,
    };
    // The list only guesses: names are registered below empty ones, and private suffixes are zones like others.
    let guessed = || registrable_domain(hostname).ok_or_else(|| SiteRefusal::PublicSuffix(hostname.clone()));
    let domain = loaded.shown_domain.clone().map_or_else(guessed, Ok)?;
    let hostnames = wanted_names(&request.hostname, request.www);
    let main = hostnames[0].clone();
    refuse_taken(&hostnames, account, loaded, &settings.sites.provider_domains)?;
    refuse_by_hand(loaded.by_hand.as_ref().filter(|_| request.place.is_here()))?;
    refuse_idle_file(request, loaded)?;
    if let ServedFrom::Elsewhere(target) = &request.place {
        return super::served_elsewhere::attach(hostname, target, account, loaded, now);
    }
    if request.place == ServedFrom::Nowhere {
        return only_the_zone(request, &domain, account, loaded, settings, layout, now);
    }
    if settings.host.addresses.is_empty() {
        return Err(SiteRefusal::NoAddresses);
    }
    let mut decision = match &request.place {
        ServedFrom::SameAs(other) => alias_domain(other, hostnames, loaded, settings, layout)?,
        _ => with_own_root(request, account, hostnames, domain == main, loaded, settings, layout)?,
    };
    decide_zone(request, &domain, loaded, settings, layout, now, &mut decision)?;
    if !matches!(request.place, ServedFrom::SameAs(_)) {
        add_site(&mut decision, loaded, settings, layout)?;
    }
    ask_for_listeners(loaded, &mut decision.plan)?;
    ask_for_answered(loaded.answered.as_ref(), &mut decision.plan);
    if let Some(known) = loaded.near_miss.clone() {
        decision.plan.remark(SiteRemark::NearMiss { hostname: request.hostname.clone(), known });
    }
    Ok(decision)
}

/// A zone file was given, and no zone is made from it: its records would be left out without a word.
fn refuse_idle_file(request: &AttachRequest, loaded: &AttachLoaded) -> Result<(), SiteRefusal> {
    let given = matches!(request.design.former, FormerWish::File { .. });
    match given && loaded.new_zone.former.is_none() {
        true => Err(SiteRefusal::NoNewZone(request.hostname.clone())),
        false => Ok(()),
    }
}

/// A site without a name: a folder and a web server file, no zone, and no certificate.
fn by_address(
    request: &AttachRequest,
    account: &Account,
    loaded: &AttachLoaded,
    settings: &Settings,
    layout: &Layout,
) -> Result<Attachment, SiteRefusal> {
    let ours = |address: &IpAddr| settings.host.addresses.contains(address) || settings.web.listen.contains(address);
    if let Some(address) = request.hostname.address().filter(|address| !ours(address)) {
        return Err(SiteRefusal::NotOurAddress(address));
    }
    let hostnames = vec![request.hostname.clone()];
    refuse_taken(&hostnames, account, loaded, &settings.sites.provider_domains)?;
    refuse_by_hand(loaded.by_hand.as_ref())?;
    let mut decision = with_own_root(request, account, hostnames, false, loaded, settings, layout)?;
    add_site(&mut decision, loaded, settings, layout)?;
    ask_for_listeners(loaded, &mut decision.plan)?;
    Ok(decision)
}

/// The new site's file and its place in the inventory.
fn add_site(
    decision: &mut Attachment,
    loaded: &AttachLoaded,
    settings: &Settings,
    layout: &Layout,
) -> Result<(), SiteRefusal> {
    let site = decision.site.clone();
    if let Some(text) = render::site_file(&site, settings, layout) {
        let path = layout.site_file(settings.web.server, site.main());
        if loaded.site_file.is_some() {
            return Err(SiteRefusal::InTheWay(path));
        }
        decision.plan.set.file(FileWrite::new(path, None, text, 0o644, Purpose::SiteFile));
    }
    decision.plan.set.inventory(InventoryChange::AddSite(site));
    Ok(())
}

fn refuse_taken(
    hostnames: &[Host],
    account: &Account,
    loaded: &AttachLoaded,
    provider_domains: &[Hostname],
) -> Result<(), SiteRefusal> {
    for hostname in hostnames {
        if let Some(site) = loaded.related.iter().find(|site| site.hostnames.contains(hostname)) {
            return Err(SiteRefusal::AlreadyAttached {
                hostname: hostname.clone(),
                kind: site.kind,
                account: site.account.clone(),
                document_root: site.document_root.clone(),
            });
        }
    }
    let somebody_elses = |domain: &Host, owner: &AccountName| SiteRefusal::SomebodyElses {
        hostname: hostnames[0].clone(),
        domain: domain.clone(),
        owner: owner.clone(),
    };
    // Below a domain of the provider anybody may have a name; what lies below that name is its owner's again.
    let provided = |name: &Hostname| provider_domains.contains(name) && hostnames[0] != *name;
    let foreign =
        |site: &&Site| site.account != account.name && !site.hostnames.iter().filter_map(Host::name).any(provided);
    if let Some(site) = loaded.related.iter().find(foreign) {
        return Err(somebody_elses(site.main(), &site.account));
    }
    match loaded.zone.as_ref().map(ZoneLoaded::zone) {
        Some(zone) if zone.account != account.name && !provided(&zone.name) => {
            Err(somebody_elses(&(&zone.name).into(), &zone.account))
        }
        _ => Ok(()),
    }
}

#[cfg(test)]
#[path = "attach_tests.rs"]
mod tests;

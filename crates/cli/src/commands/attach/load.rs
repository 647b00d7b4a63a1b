//! The part of the harbor that a decision to attach rests on: found by key, whatever the size of the harbor; with what
//! the same command has already decided on top.

use brightharbor_core::change::{ChangeSet, InventoryChange};
use brightharbor_core::name::{Hostname, is_registrable, near_misses};
use brightharbor_core::site::{
    AttachLoaded, AttachRequest, ServedFrom, Site, ZoneChoice, ZoneLoaded, document_root, wanted_names,
};
use brightharbor_core::zone::TemplateName;
use brightharbor_core::zone::{NewZoneFiles, Zone, ZoneHome};
use brightharbor_io::harbor::Harbor;
use brightharbor_io::install::read_if_there;
use brightharbor_io::zones::read_zone;

use crate::error::Error;
use crate::pending::{self, content};

/// Loads for one request, on top of the set.
pub async fn load(harbor: &Harbor, request: &AttachRequest, set: &ChangeSet) -> Result<AttachLoaded, Error> {
    let names = wanted_names(&request.hostname, request.www);
    let main = names[0].clone();
    let mut related: Vec<Site> = Vec::new();
    for name in names.iter().cloned().chain(main.ancestors()) {
        if let Some(site) = site_of(harbor, set, &name)?
            && !related.contains(&site)
        {
            related.push(site);
        }
    }
    let account = harbor.store.account(&request.account)?;
    let given = match &request.place {
        ServedFrom::OwnRoot { given, .. } => given.as_deref(),
        _ => None,
    };
    let pattern = &harbor.settings.sites.document_root;
    let root = account.as_ref().and_then(|account| document_root(given, pattern, account, &main).ok());
    let joined = match &request.place {
        ServedFrom::SameAs(other) => match site_of(harbor, set, other)? {
            Some(site) => {
                let path = harbor.layout.site_file(harbor.settings.web.server, site.main());
                Some((site, content(set, &path)?))
            }
            None => None,
        },
        _ => None,
    };
    Ok(AttachLoaded {
        account,
        related,
        zone: zone(harbor, request, &main, set).await?,
        new_zone: new_zone_files(harbor, &main, &request.design.template, set)?,
        site_file: read_if_there(&harbor.layout.site_file(harbor.settings.web.server, &main))?,
        joined,
        root_is_there: root.as_ref().is_some_and(|root| std::fs::symlink_metadata(root).is_ok()),
        shares_root: root.map(|root| harbor.store.site_sharing(&root)).transpose()?.flatten(),
    })
}

fn site_of(harbor: &Harbor, set: &ChangeSet, name: &Hostname) -> Result<Option<Site>, Error> {
    let pending = set.inventory_changes().filter_map(|change| match change {
        InventoryChange::AddSite(site) | InventoryChange::ReplaceSite { after: site, .. } => Some(site),
        _ => None,
    });
    match pending.filter(|site| site.hostnames.contains(name)).last() {
        Some(site) => Ok(Some(site.clone())),
        None => Ok(harbor.store.site_of(name)?),
    }
}

async fn zone(
    harbor: &Harbor,
    request: &AttachRequest,
    main: &Hostname,
    set: &ChangeSet,
) -> Result<Option<ZoneLoaded>, Error> {
    let pending = |name: &Hostname| {
        set.inventory_changes().find_map(|change| match change {
            InventoryChange::AddZone(zone) if zone.name == *name => Some(zone.clone()),
            _ => None,
        })
    };
    let mut enclosing = std::iter::once(main.clone()).chain(main.ancestors()).find_map(|name| pending(&name));
    if enclosing.is_none() {
        enclosing = harbor.store.enclosing_zone(main)?;
    }
    if let Some(zone) = enclosing {
        return Ok(Some(match pending::zone(harbor, &zone, set).await? {
            Some(kept) => ZoneLoaded::Kept(Box::new(kept)),
            None => ZoneLoaded::Elsewhere(zone),
        }));
    }
    match &request.zone {
        ZoneChoice::Remote(primary) if is_registrable(main) => {
            let zone = Zone {
                primary: Some(primary.clone()),
                nameserver_set: request.design.nameserver_set.clone(),
                ..Zone::new(main.clone(), request.account.clone(), ZoneHome::Remote)
            };
            Ok(Some(ZoneLoaded::Kept(Box::new(read_zone(harbor, &zone).await?))))
        }
        _ => Ok(None),
    }
}

/// The files that a new zone would meet.
pub fn new_zone_files(
    harbor: &Harbor,
    domain: &Hostname,
    template: &TemplateName,
    set: &ChangeSet,
) -> Result<NewZoneFiles, Error> {
    let Harbor { layout, settings, .. } = harbor;
    let catalog = settings.dns.catalog.as_ref().map(|catalog| layout.zone_file(catalog));
    Ok(NewZoneFiles {
        zone_file: read_if_there(&layout.zone_file(domain))?,
        zone_list: content(set, &layout.zone_list_of(settings.dns.server, domain))?,
        index: read_if_there(&layout.zone_index(settings.dns.server))?,
        template: read_if_there(&layout.zone_template(template))?,
        catalog: catalog.map(|file| content(set, &file)).transpose()?.flatten(),
    })
}

/// A domain of the harbor that a new one looks much like: probably a slip of the keyboard.
pub fn near_miss(harbor: &Harbor, hostname: &Hostname) -> Result<Option<Hostname>, Error> {
    if !is_registrable(hostname) || harbor.store.zone(hostname)?.is_some() {
        return Ok(None);
    }
    Ok(harbor.store.first_known(near_misses(hostname).into_iter())?)
}

//! What a decision to attach rests on: found by key, whatever the size of the harbor.

use std::path::{Path, PathBuf};
use std::rc::Rc;

use brightharbor_core::delegation::domain_of;
use brightharbor_core::name::{Host, Hostname, is_registrable, near_misses};
use brightharbor_core::render::{Clash, clash, site_line, zone_line};
use brightharbor_core::site::{
    AttachLoaded, AttachRequest, ByHand, ServedFrom, Site, ZoneChoice, ZoneLoaded, document_root, wanted_names,
};
use brightharbor_core::zone::{NewZoneFiles, TemplateName, Zone, ZoneHome, newest_serial};

use super::LoadError;
use super::answered::answered;
use super::former::{LONGEST_WALK, former_zone};
use crate::dns::walk_within;
use crate::harbor::Harbor;
use crate::overlay::Overlay;
use crate::server::configuration;
use crate::survey::brief;

/// Loads for one request.
pub async fn attach(overlay: &Overlay<'_>, request: &AttachRequest) -> Result<AttachLoaded, LoadError> {
    let names = wanted_names(&request.hostname, request.www);
    let main = names[0].clone();
    let mut related: Vec<Site> = Vec::new();
    for name in names.iter().cloned().chain(main.name().into_iter().flat_map(|name| name.ancestors().map(Host::Name))) {
        if let Some(site) = overlay.site_of(&name)?
            && !related.contains(&site)
        {
            related.push(site);
        }
    }
    let account = overlay.account(&request.account)?;
    let given = match &request.place {
        ServedFrom::OwnRoot { given, .. } => given.as_deref(),
        _ => None,
    };
    let pattern = &overlay.settings.sites.document_root;
    let root = account.as_ref().and_then(|account| document_root(given, pattern, account, &main).ok());
    let joined = match &request.place {
        ServedFrom::SameAs(other) => overlay.site_of(other)?,
        _ => None,
    };
    let shown_domain = match main.name() {
        Some(name) => shown_domain(overlay, name).await?,
        None => None,
    };
    let is_domain = |name: &Hostname| shown_domain.as_ref().map_or_else(|| is_registrable(name), |shown| shown == name);
    let zone = match main.name() {
        Some(name) => zone(overlay, request, name, is_domain(name)).await?,
        None => None,
    };
    let mut new_zone = match main.name() {
        Some(name) => new_zone_files(overlay, name, &request.design.template).await?,
        None => NewZoneFiles::default(),
    };
    if let (None, ZoneChoice::Here, Some(name)) = (&zone, &request.zone, main.name().filter(|name| is_domain(name))) {
        new_zone.former = former_zone(overlay, name, &request.design.former).await?;
    }
    let by_hand = by_hand(overlay, &names).await?;
    let is_ours = |name: &Host| related.iter().any(|site| site.hostnames.contains(name));
    let answered = match request.place.is_here() && by_hand.is_none() && !names.iter().any(is_ours) {
        true => answered(overlay, &names).await?,
        false => None,
    };
    Ok(AttachLoaded {
        account,
        related,
        shown_domain,
        zone,
        new_zone,
        site_file: overlay.file(&overlay.layout.site_file(overlay.settings.web.server, &main))?,
        by_hand,
        answered,
        clash: clash_in(overlay, &own_files(overlay, overlay.settings.web.main_file.as_deref()).await?),
        is_first: overlay.store.is_without_sites()?,
        joined: match joined {
            Some(site) => {
                let file = overlay.site_file(&site)?;
                Some((site, file))
            }
            None => None,
        },
        root_is_open: root.as_deref().is_some_and(super::site::is_open),
        root_is_there: root.as_ref().is_some_and(|root| std::fs::symlink_metadata(root).is_ok()),
        shares_root: root.map(|root| overlay.store.site_sharing(&root)).transpose()?.flatten(),
        own: super::own_directives(&overlay.settings, &overlay.layout, &main)?,
        near_miss: near_miss(overlay, &request.hostname)?,
    })
}

/// The domain that a name lies in as the DNS shows it, where that is not clear: the name is no registrable domain by the
/// list, and lies in no zone of this harbor.
async fn shown_domain(overlay: &Overlay<'_>, name: &Hostname) -> Result<Option<Hostname>, LoadError> {
    if is_registrable(name) || overlay.enclosing_zone(name)?.is_some() {
        return Ok(None);
    }
    let asking = async {
        let picture = walk_within(&brief(&overlay.settings, name, &[]), LONGEST_WALK).await;
        domain_of(name, &picture)
    };
    Ok(overlay.ask(&format!("the zone that {name} lies in"), asking).await?)
}

async fn zone(
    overlay: &Overlay<'_>,
    request: &AttachRequest,
    main: &Hostname,
    is_domain: bool,
) -> Result<Option<ZoneLoaded>, LoadError> {
    if let Some(zone) = overlay.enclosing_zone(main)? {
        return Ok(Some(match overlay.kept_zone(&zone).await? {
            Some(kept) => ZoneLoaded::Kept(Box::new(kept)),
            None => ZoneLoaded::Elsewhere(zone),
        }));
    }
    match &request.zone {
        ZoneChoice::Remote(primary) if is_domain => {
            let zone = Zone {
                primary: Some(primary.clone()),
                nameserver_set: request.design.nameserver_set.clone(),
                ..Zone::new(main.clone(), request.account.clone(), ZoneHome::Remote)
            };
            Ok(Some(ZoneLoaded::Kept(Box::new(overlay.read_zone(&zone).await?))))
        }
        _ => Ok(None),
    }
}

/// The files of a server's own configuration with their texts; read once for a command.
type OwnFiles = Rc<Vec<(PathBuf, String)>>;

async fn own_files(overlay: &Overlay<'_>, main_file: Option<&Path>) -> Result<OwnFiles, LoadError> {
    let Some(main_file) = main_file else { return Ok(OwnFiles::default()) };
    let reading = async { Rc::new(configuration(main_file, overlay.layout.root()).unwrap_or_default()) };
    Ok(overlay.ask(&format!("the configuration that begins with {}", main_file.display()), reading).await?)
}

/// A block of the web server's own configuration that cannot stand beside ours.
pub fn listener_clash(harbor: &Harbor) -> Option<(PathBuf, Clash)> {
    let main_file = harbor.settings.web.main_file.as_deref()?;
    clash_in(harbor, &configuration(main_file, harbor.layout.root()).ok()?)
}

fn clash_in(harbor: &Harbor, files: &[(PathBuf, String)]) -> Option<(PathBuf, Clash)> {
    let (web, internet) = (&harbor.settings.web, &harbor.settings.internet);
    let ports = [internet.http_port(), internet.https_port()];
    files.iter().find_map(|(file, text)| {
        let found = clash(web.server, text, &web.listen, &harbor.settings.host.addresses, &ports)?;
        Some((file.clone(), found))
    })
}

/// Where the web server's own configuration serves one of the names. The harbor's files are not its own.
pub(super) async fn by_hand(overlay: &Overlay<'_>, names: &[Host]) -> Result<Option<ByHand>, LoadError> {
    let web = &overlay.settings.web;
    let files = own_files(overlay, web.main_file.as_deref()).await?;
    Ok(files.iter().find_map(|(file, text)| {
        names.iter().find_map(|host| {
            let line = site_line(web.server, text, host)?;
            Some(ByHand { host: host.clone(), file: file.clone(), line })
        })
    }))
}

/// What a new zone would meet: files, and what the DNS server has of it already.
pub async fn new_zone_files(
    overlay: &Overlay<'_>,
    domain: &Hostname,
    template: &TemplateName,
) -> Result<NewZoneFiles, LoadError> {
    let (layout, dns) = (&overlay.layout, &overlay.settings.dns);
    let catalog = dns.catalog.as_ref().map(|catalog| overlay.file(&layout.zone_file(catalog))).transpose()?;
    let own = own_files(overlay, dns.main_file.as_deref()).await?;
    let defined = own.iter().find_map(|(file, text)| Some((file.clone(), zone_line(dns.server, text, domain)?)));
    let serials = overlay.served_serials(domain).await?;
    let served = serials.iter().find(|(server, _)| Some(*server) == dns.address).map(|(_, serial)| *serial);
    Ok(NewZoneFiles {
        defined,
        served,
        known_serial: newest_serial(serials.into_iter().map(|(_, serial)| serial)),
        zone_file: overlay.file(&layout.zone_file(domain))?,
        zone_list: overlay.file(&layout.zone_list_of(dns.server, domain))?,
        index: overlay.file(&layout.zone_index(dns.server))?,
        template: overlay.file(&layout.zone_template(template))?,
        catalog: catalog.flatten(),
        former: None,
    })
}

/// A domain of the harbor that a new one looks much like: probably a slip of the keyboard.
fn near_miss(overlay: &Overlay<'_>, host: &Host) -> Result<Option<Hostname>, LoadError> {
    let Some(hostname) = host.name().filter(|name| is_registrable(name)) else { return Ok(None) };
    if overlay.store.zone(hostname)?.is_some() {
        return Ok(None);
    }
    // A long list was not typed letter by letter.
    if overlay.is_for_many() {
        return Ok(None);
    }
    Ok(overlay.store.first_known(near_misses(hostname).into_iter())?)
}

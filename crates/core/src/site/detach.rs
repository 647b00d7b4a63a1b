//! The decision to detach hostnames: what was attached is taken back, but nothing in a home, and no certificate.

use jiff::civil::Date;

use super::catalog::without_member;
use super::{HttpsPolicy, KeptZone, Site, change_site};
use crate::change::{Change, ChangeSet, FileRemoval, FileWrite, InventoryChange, Purpose};
use crate::harbor::{Layout, NewZones, Settings};
use crate::name::Hostname;
use crate::render;
use crate::zone::{EditError, Record};

/// What the decision rests on.
#[derive(Debug, Clone)]
pub struct DetachLoaded {
    pub site: Site,
    pub site_file: Option<Vec<u8>>,
    /// The zones that hold the names, where they can be changed from here.
    pub zones: Vec<KeptZone>,
}

/// What becomes of zones whose own name is detached.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ZoneFate {
    Kept,
    Removed,
}

/// The files around zones that are removed.
#[derive(Debug, Clone, Default)]
pub struct ZoneRemovalFiles {
    pub zone_list: Option<Vec<u8>>,
    pub catalog: Option<Vec<u8>>,
}

/// Takes names of one site away; all of them with its main one. Gives what was made of it, in sentences.
pub fn detach(
    names: &[Hostname],
    loaded: &DetachLoaded,
    settings: &Settings,
    layout: &Layout,
    today: Date,
    set: &mut ChangeSet,
) -> Result<Vec<String>, EditError> {
    let site = &loaded.site;
    let whole = names.contains(site.main());
    let mut gone: Vec<Hostname> = if whole { site.hostnames.clone() } else { names.to_vec() };
    if !whole {
        // A twin does not stay alone.
        let twins: Vec<Hostname> = gone.iter().filter_map(Hostname::with_www).collect();
        gone.extend(twins.into_iter().filter(|twin| site.hostnames.contains(twin) && !names.contains(twin)));
    }
    let mut said = Vec::new();
    if whole {
        if let Some(before) = &loaded.site_file {
            let path = layout.site_file(settings.web.server, site.main());
            set.changes.push(Change::RemoveFile(FileRemoval::new(path, before.clone(), 0o644, Purpose::SiteFile)));
        }
        set.inventory(InventoryChange::RemoveSite(site.clone()));
        said.push(format!("{} is detached, with all its names", site.main()));
        said.push(format!("its pages stay in {}", site.document_root.display()));
        if let Some(files) = &site.certificate {
            said.push(format!("its certificate stays in {}, and is not renewed", files.folder().display()));
        }
    } else {
        let mut after = site.clone();
        after.hostnames.retain(|hostname| !gone.contains(hostname));
        after.rules.redirects.retain(|redirect| after.hostnames.iter().any(|hostname| redirect.is_for(hostname)));
        // Fewer names than the certificate covers: https may stay as it is.
        debug_assert!(after.https != HttpsPolicy::None || site.https == HttpsPolicy::None);
        change_site(set, site, &after, loaded.site_file.clone(), settings, layout);
        let names = gone.iter().map(Hostname::as_str).collect::<Vec<_>>().join(" and ");
        said.push(format!(
            "{names} {} detached from the site {}",
            if gone.len() == 1 { "is" } else { "are" },
            site.main()
        ));
    }
    for kept in &loaded.zones {
        let ours = |record: &&Record| {
            let named = gone.iter().any(|name| name.dns_name() == record.owner);
            named && record.data.address().is_some_and(|address| settings.host.addresses.contains(&address))
        };
        let records: Vec<Record> = kept.document.records().filter(ours).cloned().collect();
        if records.is_empty() {
            continue;
        }
        let edited = kept.document.without_records(&records, today)?;
        set.extend(vec![kept.change(&edited, &records, &[])]);
        let addresses = match records.len() {
            1 => "the address".to_string(),
            count => format!("the {count} addresses"),
        };
        said.push(format!("the zone {} is kept, without {addresses} that led here", kept.zone.name));
    }
    Ok(said)
}

/// Takes a whole zone away: its file, its place in the server's list and in the catalog.
pub fn remove_zone(
    kept: &KeptZone,
    files: &ZoneRemovalFiles,
    settings: &Settings,
    layout: &Layout,
    today: Date,
    set: &mut ChangeSet,
) -> Result<Vec<String>, EditError> {
    let zone = &kept.zone;
    set.inventory(InventoryChange::RemoveZone(zone.clone()));
    if !kept.is_file() {
        return Ok(vec![format!("the zone {} stays on its primary server; it is not known here any more", zone.name)]);
    }
    let path = layout.zone_file(&zone.name);
    let server = settings.dns.server;
    if server.reads_zone_list() && settings.dns.new_zones == NewZones::List {
        let list = String::from_utf8_lossy(files.zone_list.as_deref().unwrap_or_default()).into_owned();
        let text = render::without_zone(server, &list, &zone.name, &path);
        let part = layout.zone_list_of(server, &zone.name);
        set.file(FileWrite::new(part, files.zone_list.clone(), text, 0o644, Purpose::ZoneList));
    }
    set.changes.extend(without_member(&zone.name, files.catalog.as_deref(), today, settings, layout)?);
    let before = kept.document.source().to_vec();
    let purpose = Purpose::ZoneFile { zone: zone.name.clone() };
    set.changes.push(Change::RemoveFile(FileRemoval::new(path, before, 0o644, purpose)));
    Ok(vec![format!("the zone {} is removed", zone.name)])
}

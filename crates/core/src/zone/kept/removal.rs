//! The decision to take a whole zone away: its file, its place in the server's list and in the catalog.

use jiff::civil::Date;

use super::KeptZone;
use super::catalog::without_member;
use crate::change::{Change, ChangeSet, FileRemoval, FileWrite, InventoryChange, Purpose};
use crate::harbor::{Layout, NewZones, Settings};
use crate::render;
use crate::zone::EditError;

/// The files around zones that are removed.
#[derive(Debug, Clone, Default)]
pub struct ZoneRemovalFiles {
    pub zone_list: Option<Vec<u8>>,
    pub catalog: Option<Vec<u8>>,
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::AccountName;
    use crate::harbor::DnsServer;
    use crate::name::Hostname;
    use crate::zone::{Document, Zone, ZoneHome, ZonePlace, new_catalog};

    const TODAY: Date = Date::constant(2026, 11, 23);
    const ZONE: &str = "$TTL 900\n@ SOA ns1.saltmarsh.example. host 7 4h 30m 4w 5m\n@ NS ns1.saltmarsh.example.\n\
                        @ A 192.0.2.10\n";

    fn name(text: &str) -> Hostname {
        Hostname::parse(text).unwrap()
    }

    fn settings() -> Settings {
        let mut settings = Settings::default();
        settings.dns.server = DnsServer::Bind;
        settings
    }

    fn kept(domain: &str) -> KeptZone {
        let zone = Zone::new(name(domain), AccountName::parse("boatyard").unwrap(), ZoneHome::Here);
        let document = Document::parse(ZONE, &zone.name.dns_name()).unwrap();
        let path = Layout::new("/harbor").zone_file(&zone.name);
        KeptZone { zone, document, place: ZonePlace::File { path } }
    }

    #[test]
    fn a_zone_that_is_removed_leaves_the_list_and_the_catalog() {
        let (layout, mut settings) = (Layout::new("/harbor"), settings());
        settings.dns.catalog = Some(name("zones.saltmarsh.example"));
        let zone = kept("quay.example");
        let path = layout.zone_file(&zone.zone.name);
        let other = "zone \"gullrock.example\" { type primary; file \"/x\"; };\n";
        let list = other.to_string() + &render::zone_stanza(DnsServer::Bind, &zone.zone.name, &path, true);
        let members = [name("gullrock.example"), name("quay.example")];
        let catalog = new_catalog(&name("zones.saltmarsh.example"), members.iter(), 7).unwrap();
        let files = ZoneRemovalFiles { zone_list: Some(list.into_bytes()), catalog: Some(catalog.source().to_vec()) };
        let mut set = ChangeSet::new("detach");
        remove_zone(&zone, &files, &settings, &layout, TODAY, &mut set).unwrap();
        let part = set.pending(&layout.zone_list_of(DnsServer::Bind, &zone.zone.name)).unwrap();
        assert_eq!(part, other.as_bytes());
        let file = layout.zone_file(&name("zones.saltmarsh.example"));
        let text = String::from_utf8_lossy(set.pending(&file).unwrap()).into_owned();
        assert!(text.contains("gullrock.example.") && !text.contains("quay.example."), "{text}");
        let needs = set.needs();
        assert!(needs.zone_list && needs.gone_zones == [name("quay.example")] && needs.dns());
    }
}

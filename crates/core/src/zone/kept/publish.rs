//! The decision to publish the zones of this harbor: the catalog zone brought up to date, and transfers limited to the
//! secondaries and their keys.

use std::collections::BTreeMap;
use std::path::PathBuf;

use jiff::Timestamp;

use super::{KeptZone, ZoneRefusal, ZoneRemark, catalog_difference, new_catalog, updated_at};
use crate::change::{Change, ExistingFile, FileLink, FileWrite, Plan, Purpose, content_hash};
use crate::harbor::{Layout, Settings};
use crate::name::Hostname;
use crate::render::{DefinedZone, Publication, ZoneKind, republished, zone_index};
use crate::zone::{first_serial, serial_date};

/// What the decision rests on.
#[derive(Debug, Clone)]
pub struct PublishLoaded {
    /// Who gets the zones.
    pub publication: Publication,
    /// The zones that are kept here.
    pub members: Vec<Hostname>,
    /// Those that the server signs, with the policy.
    pub signed: BTreeMap<Hostname, String>,
    /// The catalog zone as it was read; `None`: there is none yet.
    pub catalog: Option<KeptZone>,
    /// A catalog that the server's own configuration defines, and that the harbor has no link to yet.
    pub joined: Option<DefinedZone>,
    pub index: ExistingFile,
    /// The parts of the zone list that there are.
    pub parts: BTreeMap<PathBuf, Vec<u8>>,
}

/// The parts of the zone list, each with the zones that stand in it.
pub fn parts(members: &[Hostname], settings: &Settings, layout: &Layout) -> BTreeMap<PathBuf, Vec<Hostname>> {
    let mut parts: BTreeMap<PathBuf, Vec<Hostname>> = BTreeMap::new();
    for zone in members {
        parts.entry(layout.zone_list_of(settings.dns.server, zone)).or_default().push(zone.clone());
    }
    parts
}

/// Decides what the server here has to be told.
pub fn publish(
    loaded: &PublishLoaded,
    settings: &Settings,
    layout: &Layout,
    now: Timestamp,
) -> Result<Plan, ZoneRefusal> {
    let mut plan = Plan::new("zone publish");
    if let Some(name) = &settings.dns.catalog {
        publish_catalog(name, loaded, settings, layout, now, &mut plan)?;
    }
    let server = settings.dns.server;
    let index = layout.zone_index(server);
    let text = zone_index(server, layout, &loaded.publication);
    if loaded.index.as_deref() != Some(text.as_bytes()) {
        plan.set.file(FileWrite::new(index, loaded.index.clone(), text, 0o644, Purpose::ZoneList));
        plan.remark(ZoneRemark::Published { secondaries: loaded.publication.secondaries.len() });
    }
    for (part, zones) in parts(&loaded.members, settings, layout) {
        let Some(before) = loaded.parts.get(&part) else { continue };
        let list = String::from_utf8_lossy(before).into_owned();
        let of_zone = |zone: Hostname| (layout.zone_file(&zone), loaded.signed.get(&zone).cloned(), zone);
        let zones: Vec<(Hostname, PathBuf, Option<String>)> =
            zones.into_iter().map(of_zone).map(|(file, policy, zone)| (zone, file, policy)).collect();
        let text = republished(server, &list, &zones, true);
        if text != list {
            plan.set.file(FileWrite::new(part, Some(before.clone()), text, 0o644, Purpose::ZoneList));
        }
    }
    Ok(plan)
}

fn publish_catalog(
    name: &Hostname,
    loaded: &PublishLoaded,
    settings: &Settings,
    layout: &Layout,
    now: Timestamp,
    plan: &mut Plan,
) -> Result<(), ZoneRefusal> {
    let today = serial_date(now);
    let catalog = || name.clone();
    let stays = |defined: &DefinedZone, reason| ZoneRefusal::CatalogStays {
        catalog: catalog(),
        file: defined.defined_in.clone(),
        line: defined.line,
        reason,
    };
    let joined = loaded.joined.as_ref().map(|defined| joinable(defined, settings).map_err(|why| stays(defined, why)));
    let joined = joined.transpose()?;
    let Some(kept) = &loaded.catalog else {
        let made = new_catalog(name, loaded.members.iter(), first_serial(today))
            .map_err(|error| ZoneRefusal::CatalogUnmade { catalog: catalog(), error })?;
        let purpose = Purpose::ZoneFile { zone: catalog() };
        plan.set.file(FileWrite::new(layout.zone_file(name), None, made.source(), 0o644, purpose));
        plan.remark(ZoneRemark::CatalogNew { catalog: catalog(), members: loaded.members.len() });
        return Ok(());
    };
    if let Some(file) = joined {
        let hash = content_hash(kept.document.source());
        let (path, to) = (layout.zone_file(name), file.clone());
        plan.change(Change::LinkFile(FileLink { path, to, zone: catalog(), hash, moves: false }));
        plan.remark(ZoneRemark::CatalogJoined { catalog: catalog(), file: file.clone() });
    }
    let (superfluous, missing) = catalog_difference(&kept.document, &loaded.members);
    if superfluous.is_empty() && missing.is_empty() {
        return Ok(());
    }
    let edited = kept
        .document
        .with_changes(&superfluous, &missing, None, today)
        .map_err(|error| ZoneRefusal::Catalog { catalog: catalog(), error })?;
    plan.change(kept.change(&edited, &superfluous, &missing));
    let (removed, added) = (superfluous.len(), missing.len());
    plan.remark(ZoneRemark::CatalogChanged { catalog: catalog(), removed, added });
    Ok(())
}

/// The file of a catalog that can be joined; else why not, in words.
fn joinable<'a>(defined: &'a DefinedZone, settings: &Settings) -> Result<&'a PathBuf, &'static str> {
    match (defined.kind, defined.manner) {
        (_, manner) if manner.in_view => Err("in a view"),
        (ZoneKind::Primary, manner) if manner.dynamic && updated_at(settings).is_none() => {
            Err("to be changed by updates, for which `update-key-file` is not set")
        }
        (ZoneKind::Primary, _) => defined.file.as_ref().ok_or("without a file that could be found"),
        _ => Err("but is not its primary"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::AccountName;
    use crate::change::Remark;
    use crate::harbor::DnsServer;
    use crate::render::{CatalogStanza, PublishedTo, Serving, zone_stanza};
    use crate::zone::{Zone, ZoneHome, ZonePlace};

    fn name(text: &str) -> Hostname {
        Hostname::parse(text).unwrap()
    }

    fn settings() -> Settings {
        let mut settings = Settings::default();
        settings.dns.server = DnsServer::Bind;
        settings.dns.catalog = Some(name("zones.saltmarsh.example"));
        settings
    }

    fn loaded(layout: &Layout) -> PublishLoaded {
        let members = vec![name("gullrock.example"), name("quay.example")];
        let part = layout.zone_list_of(DnsServer::Bind, &members[0]);
        let stanza = zone_stanza(DnsServer::Bind, &members[0], &layout.zone_file(&members[0]), Serving::default());
        PublishLoaded {
            publication: Publication {
                secondaries: vec![PublishedTo { address: "192.0.2.54:53".parse().unwrap(), key: "pier".into() }],
                catalog: Some(CatalogStanza { name: name("zones.saltmarsh.example"), update_key: None }),
            },
            members,
            signed: BTreeMap::new(),
            catalog: None,
            joined: None,
            index: None,
            parts: [(part, stanza.into_bytes())].into(),
        }
    }

    #[test]
    fn what_is_published_once_is_not_written_again() {
        let layout = Layout::new("/harbor");
        let mut state = loaded(&layout);
        let now = "2026-11-27T12:00:00Z".parse().unwrap();
        let plan = publish(&state, &settings(), &layout, now).unwrap();
        let catalog = name("zones.saltmarsh.example");
        let made = Remark::Zone(ZoneRemark::CatalogNew { catalog: catalog.clone(), members: 2 });
        assert_eq!(plan.remarks, [made, Remark::Zone(ZoneRemark::Published { secondaries: 1 })]);
        let of = |path: &PathBuf| plan.set.pending(path).unwrap().to_vec();
        state.index = Some(of(&layout.zone_index(DnsServer::Bind)));
        let part = state.parts.keys().next().unwrap().clone();
        state.parts.insert(part.clone(), of(&part));
        let document = crate::zone::Document::parse(of(&layout.zone_file(&catalog)), &catalog.dns_name()).unwrap();
        let zone = Zone::new(catalog.clone(), AccountName::parse("catalog").unwrap(), ZoneHome::Here);
        let place = ZonePlace::File { path: layout.zone_file(&catalog) };
        state.catalog = Some(KeptZone { zone, document, place });
        assert!(publish(&state, &settings(), &layout, now).unwrap().is_empty());
        state.members = vec![name("gullrock.example"), name("lanternchoir.example")];
        let plan = publish(&state, &settings(), &layout, now).unwrap();
        assert_eq!(plan.remarks, [Remark::Zone(ZoneRemark::CatalogChanged { catalog, removed: 1, added: 1 })]);
    }
}

//! The decision to take a whole zone away: its file, its place in the server's list and in the catalog.

use jiff::civil::Date;

use super::align::made_by;
use super::catalog::without_member;
use super::signing::journal_removal;
use super::{KeptZone, Zone, ZoneRemark};
use crate::change::{Change, Consent, FileRemoval, FileWrite, InventoryChange, Plan, Purpose};
use crate::harbor::{Layout, NewZones, Settings};
use crate::name::Hostname;
use crate::render;
use crate::zone::{EditError, Pattern, Record, RecordType};

/// The files around zones that are removed.
#[derive(Debug, Clone, Default)]
pub struct ZoneRemovalFiles {
    pub zone_list: Option<Vec<u8>>,
    pub catalog: Option<Vec<u8>>,
    /// The journal of a zone that BIND signs.
    pub journal: Option<Vec<u8>>,
}

/// A zone that is to go, as it was read.
#[derive(Debug, Clone)]
pub struct ZoneRemoval {
    pub kept: KeptZone,
    pub files: ZoneRemovalFiles,
    /// The pattern that it was made by, where that is known.
    pub pattern: Option<Pattern>,
    /// The hostnames in it that were attached until now.
    pub attached: Vec<Hostname>,
}

/// Forgets a zone that somebody else keeps.
pub fn forget_zone(zone: &Zone) -> Plan {
    let mut plan = Plan::new(format!("remove the zone {}", zone.name));
    plan.set.inventory(InventoryChange::RemoveZone(zone.clone()));
    plan.remark(ZoneRemark::StaysElsewhere { zone: zone.name.clone() });
    plan
}

/// Decides that a whole zone goes: its file, its place in the server's list and in the catalog. Records that nobody made
/// by a template or by attaching need a consent. The file is kept as a copy, since somebody may have written in it.
pub fn remove_zone(
    removal: &ZoneRemoval,
    settings: &Settings,
    layout: &Layout,
    today: Date,
) -> Result<Plan, EditError> {
    let ZoneRemoval { kept, files, .. } = removal;
    let zone = &kept.zone;
    let mut plan = Plan::new(format!("remove the zone {}", zone.name));
    plan.set.inventory(InventoryChange::RemoveZone(zone.clone()));
    if !kept.is_file() {
        plan.remark(ZoneRemark::StaysOnPrimary { zone: zone.name.clone() });
        return Ok(plan);
    }
    let records = hand_made(removal);
    if !records.is_empty() {
        plan.needs_consent(Consent::RemovesHandMadeRecords { zone: zone.name.clone(), records });
    }
    let path = layout.zone_file(&zone.name);
    let server = settings.dns.server;
    if server.reads_zone_list() && settings.dns.new_zones == NewZones::List {
        let list = String::from_utf8_lossy(files.zone_list.as_deref().unwrap_or_default()).into_owned();
        let text = render::without_zone(server, &list, &zone.name, &path, zone.signed_by());
        let part = layout.zone_list_of(server, &zone.name);
        plan.set.file(FileWrite::new(part, files.zone_list.clone(), text, 0o644, Purpose::ZoneList));
    }
    plan.set.changes.extend(without_member(&zone.name, files.catalog.as_deref(), today, settings, layout)?);
    plan.set.changes.extend(journal_removal(layout, zone, files.journal.as_ref()));
    let before = kept.document.source().to_vec();
    let copy = layout.removed_zone(&zone.name, &before);
    plan.set.file(FileWrite::new(copy.clone(), None, before.clone(), 0o600, Purpose::Copy));
    let purpose = Purpose::ZoneFile { zone: zone.name.clone() };
    plan.change(Change::RemoveFile(FileRemoval::new(path, before, 0o644, purpose)));
    plan.remark(ZoneRemark::Removed { zone: zone.name.clone(), copy });
    Ok(plan)
}

/// The records that neither the zone's pattern gave nor attaching. Of a zone that came from no template, all but what
/// every zone has.
fn hand_made(removal: &ZoneRemoval) -> Vec<Record> {
    let ZoneRemoval { kept, pattern, attached, .. } = removal;
    let (document, apex) = (&kept.document, kept.zone.name.dns_name());
    let made = pattern.as_ref().and_then(|pattern| made_by(pattern, &kept.zone.name, attached, document).ok());
    let is_made = |record: &Record| match &made {
        Some(made) => made.records().any(|other| other.owner == record.owner && other.data == record.data),
        None => record.owner == apex && record.record_type() == RecordType::NS,
    };
    let is_by_hand = |record: &&Record| record.record_type() != RecordType::SOA && !is_made(record);
    document.records().filter(is_by_hand).cloned().collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::AccountName;
    use crate::harbor::DnsServer;
    use crate::name::DnsName;
    use crate::zone::{Document, Mail, ZoneDesign, ZoneHome, ZonePlace, new_catalog};

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
        let serving = render::Serving { published: true, signed_by: None };
        let list = other.to_string() + &render::zone_stanza(DnsServer::Bind, &zone.zone.name, &path, serving);
        let members = [name("gullrock.example"), name("quay.example")];
        let catalog = new_catalog(&name("zones.saltmarsh.example"), members.iter(), 7).unwrap();
        let files = ZoneRemovalFiles {
            zone_list: Some(list.into_bytes()),
            catalog: Some(catalog.source().to_vec()),
            journal: None,
        };
        let kept = zone.clone();
        let removal = ZoneRemoval { kept, files, pattern: None, attached: vec![] };
        let Plan { set, consents, .. } = remove_zone(&removal, &settings, &layout, TODAY).unwrap();
        // No template gave it this address.
        let [Consent::RemovesHandMadeRecords { records, .. }] = &consents[..] else { panic!("{consents:?}") };
        assert_eq!(records.iter().map(Record::to_string).collect::<Vec<_>>(), ["quay.example. 900 IN A 192.0.2.10"]);
        let part = set.pending(&layout.zone_list_of(DnsServer::Bind, &zone.zone.name)).unwrap();
        assert_eq!(part, other.as_bytes());
        let file = layout.zone_file(&name("zones.saltmarsh.example"));
        let text = String::from_utf8_lossy(set.pending(&file).unwrap()).into_owned();
        assert!(text.contains("gullrock.example.") && !text.contains("quay.example."), "{text}");
        let copy = set.pending(&layout.removed_zone(&zone.zone.name, ZONE.as_bytes())).unwrap();
        assert_eq!(copy, ZONE.as_bytes());
        let needs = set.needs();
        assert!(needs.zone_list && needs.gone_zones == [name("quay.example")] && needs.dns());
    }

    #[test]
    fn what_a_template_or_attaching_gave_goes_without_a_question_and_nothing_else() {
        let mut settings = settings();
        settings.host.nameservers = vec![DnsName::absolute("ns1.saltmarsh.example").unwrap()];
        settings.host.addresses = vec!["192.0.2.10".parse().unwrap()];
        let pattern = ZoneDesign::plain(Mail::None).pattern(None, &settings).unwrap();
        let domain = name("quay.example");
        let made = pattern.zone(&domain, 7).unwrap();
        let text = String::from_utf8_lossy(made.source()).into_owned() + "shop\t300\tIN\tA\t192.0.2.10\n";
        let consents = |text: &str, attached: &[&str]| {
            let document = Document::parse(text, &domain.dns_name()).unwrap();
            let removal = ZoneRemoval {
                kept: KeptZone { document, ..kept("quay.example") },
                files: ZoneRemovalFiles::default(),
                pattern: Some(pattern.clone()),
                attached: attached.iter().map(|text| name(text)).collect(),
            };
            remove_zone(&removal, &settings, &Layout::new("/harbor"), TODAY).unwrap().consents.len()
        };
        assert_eq!(consents(&text, &["quay.example", "shop.quay.example"]), 0);
        assert_eq!(consents(&text, &["quay.example"]), 1);
        assert_eq!(consents(&format!("{text}@\tIN\tTXT\t\"kept by hand\"\n"), &["shop.quay.example"]), 1);
    }
}

//! The catalog zone (RFC 9432): a zone that names all others, so that secondary servers take new ones by themselves.
//!
//! Changed by its file, or by an UPDATE where the server takes one: then a new zone costs the same however many there
//! are. `render` has its stanza; `zone publish` makes it and brings it up to date.

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::path::PathBuf;

use jiff::civil::Date;

use super::new_zone::NewZoneRefused;
use crate::change::{Change, FileWrite, Purpose, ZoneUpdate, content_hash};
use crate::harbor::{DnsServer, Layout, Settings};
use crate::name::{DnsName, Hostname};
use crate::zone::{Document, EditError, Field, Record, RecordData, RecordType, Requirement, Update, ZoneError};

const PTR: RecordType = RecordType(12);
/// Nobody asks a catalog zone but secondaries, which hold each answer until the next serial.
const TTL: u32 = 3600;

/// A catalog zone with these members (section 4).
pub fn new_catalog<'a>(
    name: &Hostname,
    members: impl Iterator<Item = &'a Hostname>,
    serial: u32,
) -> Result<Document, ZoneError> {
    let mut text = format!(
        "; The catalog of the zones of this harbor (RFC 9432). `brightharbor zone publish` keeps it.\n\
         $TTL {TTL}\n@\tIN\tSOA\tinvalid. invalid. {serial} 3600 600 2419200 60\n@\tIN\tNS\tinvalid.\n\
         version\tIN\tTXT\t\"2\"\n"
    );
    for member in members {
        text.push_str(&format!("{}.zones\tIN\tPTR\t{}\n", label_of(member), member.dns_name()));
    }
    Document::parse(text, &name.dns_name())
}

/// The records that a catalog has for members of this harbor that it should not have, and those that it lacks. Members
/// under other labels are somebody else's: a catalog may name the zones of several harbors, or of none.
pub fn catalog_difference(catalog: &Document, members: &[Hostname]) -> (Vec<Record>, Vec<Record>) {
    let mut wanted: BTreeMap<DnsName, &Hostname> = members.iter().map(|member| (member.dns_name(), member)).collect();
    let mut superfluous = Vec::new();
    for record in catalog.records().filter(|record| record.record_type() == PTR) {
        let Some(member) = member_of(record) else { continue };
        if wanted.remove(member).is_none() && is_ours(record, member) {
            superfluous.push(record.clone());
        }
    }
    let missing = wanted.into_values().map(|member| member_record(catalog.origin(), member)).collect();
    (superfluous, missing)
}

/// The change of the catalog that a new zone brings: none where there is no catalog yet.
pub(super) fn with_member(
    member: &Hostname,
    file: Option<&[u8]>,
    today: Date,
    settings: &Settings,
    layout: &Layout,
) -> Result<Option<Change>, NewZoneRefused> {
    let Some(name) = &settings.dns.catalog else { return Ok(None) };
    let record = member_record(&name.dns_name(), member);
    if let Some((server, key_file)) = updated_at(settings) {
        let owner = record.owner.clone();
        let requires = vec![Requirement::NoSet { owner, record_type: PTR }];
        let update = Update { zone: name.dns_name(), requires, removed: vec![], added: vec![record] };
        // The file tells whether the catalog has been made; its content is the server's.
        return Ok(
            file.map(|_| Change::UpdateZone(ZoneUpdate { zone: name.clone(), server, key_file, serial: 0, update }))
        );
    }
    let Some(bytes) = file else { return Ok(None) };
    let catalog = Document::parse(bytes, &name.dns_name())
        .map_err(|error| NewZoneRefused::Catalog(EditError::Unreadable(error)))?;
    let edited = match catalog.with_records(&[record], today) {
        Ok(edited) => edited,
        Err(EditError::Duplicate(_)) => return Ok(None),
        Err(error) => return Err(NewZoneRefused::Catalog(error)),
    };
    let purpose = Purpose::ZoneFile { zone: name.clone() };
    let write = FileWrite::new(layout.zone_file(name), Some(bytes.to_vec()), edited.source(), 0o644, purpose);
    Ok(Some(Change::WriteFile(write)))
}

/// The change of the catalog when a zone goes: none where it does not name it.
pub(super) fn without_member(
    member: &Hostname,
    file: Option<&[u8]>,
    today: Date,
    settings: &Settings,
    layout: &Layout,
) -> Result<Option<Change>, EditError> {
    let (Some(name), Some(bytes)) = (&settings.dns.catalog, file) else { return Ok(None) };
    let record = member_record(&name.dns_name(), member);
    if let Some((server, key_file)) = updated_at(settings) {
        let update = Update { zone: name.dns_name(), requires: vec![], removed: vec![record], added: vec![] };
        return Ok(Some(Change::UpdateZone(ZoneUpdate { zone: name.clone(), server, key_file, serial: 0, update })));
    }
    let catalog = Document::parse(bytes, &name.dns_name()).map_err(EditError::Unreadable)?;
    let present: Vec<Record> = catalog.records().filter(|present| present.data == record.data).cloned().collect();
    if present.is_empty() {
        return Ok(None);
    }
    let edited = catalog.without_records(&present, today)?;
    let purpose = Purpose::ZoneFile { zone: name.clone() };
    let write = FileWrite::new(layout.zone_file(name), Some(bytes.to_vec()), edited.source(), 0o644, purpose);
    Ok(Some(Change::WriteFile(write)))
}

/// Where the catalog is changed by UPDATE, and the file of the key for it.
pub fn updated_at(settings: &Settings) -> Option<(SocketAddr, PathBuf)> {
    let takes_updates = matches!(settings.dns.server, DnsServer::Bind | DnsServer::Knot);
    let (server, key_file) = (settings.dns.address?, settings.dns.update_key_file.clone()?);
    takes_updates.then_some((server, key_file))
}

fn member_record(catalog: &DnsName, member: &Hostname) -> Record {
    let owner = DnsName::parse(&format!("{}.zones", label_of(member)), catalog).unwrap_or_else(|_| catalog.clone());
    let fields = vec![Field::Name(member.dns_name())];
    Record { owner, ttl: TTL, data: RecordData::Fields { record_type: PTR, fields: fields.into() } }
}

fn member_of(record: &Record) -> Option<&DnsName> {
    match &record.data {
        RecordData::Fields { fields, .. } => fields.iter().find_map(|field| match field {
            Field::Name(name) => Some(name),
            _ => None,
        }),
        _ => None,
    }
}

/// Whether it stands under the label that we give the member.
fn is_ours(record: &Record, member: &DnsName) -> bool {
    let label = Hostname::parse_zone(&member.bare()).map(|member| label_of(&member));
    label.is_ok_and(|label| record.owner.bare().starts_with(&format!("{label}.zones.")))
}

/// A label of its own for each member that stays the same (section 4.1): from the hash of its name.
fn label_of(member: &Hostname) -> String {
    content_hash(member.as_str().as_bytes())[..20].to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn names(all: &[&str]) -> Vec<Hostname> {
        all.iter().map(|name| Hostname::parse(name).unwrap()).collect()
    }

    #[test]
    fn a_catalog_names_its_members_and_the_difference_is_found() {
        let name = Hostname::parse("zones.saltmarsh.example").unwrap();
        let first = names(&["crumbandtide.example", "gullrock.example"]);
        let catalog = new_catalog(&name, first.iter(), 7).unwrap();
        assert_eq!(catalog.records().filter(|record| record.record_type() == PTR).count(), 2);
        assert!(String::from_utf8_lossy(catalog.source()).contains("version\tIN\tTXT\t\"2\""));
        assert_eq!(catalog_difference(&catalog, &first), (vec![], vec![]));
        let (gone, come) = catalog_difference(&catalog, &names(&["gullrock.example", "lanternchoir.example"]));
        assert_eq!(member_of(&gone[0]).unwrap().bare(), "crumbandtide.example");
        assert_eq!(member_of(&come[0]).unwrap().bare(), "lanternchoir.example");
        assert_eq!((gone.len(), come.len()), (1, 1));
        assert!(crate::zone::rules::judge_loading(&catalog).is_empty());
        // Part of a network (RFC 2317) is a member like others.
        let part = [Hostname::parse_zone("0/25.2.0.192.in-addr.arpa").unwrap()];
        let of_part = new_catalog(&name, part.iter(), 7).unwrap();
        assert_eq!(catalog_difference(&of_part, &part), (vec![], vec![]));
        assert_eq!(catalog_difference(&of_part, &[]).0.len(), 1);
        // Somebody else's member stays, and one of ours under another label is no second one.
        let text = String::from_utf8_lossy(catalog.source()).into_owned();
        let joined = text + "quay.zones IN PTR harbor.example.\nown.zones IN PTR lanternchoir.example.\n";
        let joined = Document::parse(joined, &name.dns_name()).unwrap();
        let (gone, come) = catalog_difference(&joined, &names(&["gullrock.example", "lanternchoir.example"]));
        assert_eq!((gone.len(), come.len()), (1, 0));
        assert_eq!(member_of(&gone[0]).unwrap().bare(), "crumbandtide.example");
    }

    #[test]
    fn a_new_zone_changes_the_catalog_by_its_file_or_by_one_update() {
        let name = Hostname::parse("zones.saltmarsh.example").unwrap();
        let member = Hostname::parse("gullrock.example").unwrap();
        let catalog = new_catalog(&name, [].iter(), 7).unwrap();
        let (layout, today) = (Layout::new("/harbor"), jiff::civil::date(2026, 11, 23));
        let mut settings = Settings::default();
        let change = |settings: &Settings, file| with_member(&member, file, today, settings, &layout).unwrap();
        assert_eq!(change(&settings, Some(catalog.source())), None, "no catalog in the settings");
        settings.dns.catalog = Some(name.clone());
        assert_eq!(change(&settings, None), None, "not made yet");
        let Some(Change::WriteFile(write)) = change(&settings, Some(catalog.source())) else { panic!() };
        assert!(String::from_utf8_lossy(&write.content).contains("gullrock.example."));
        assert_eq!(change(&settings, Some(&write.content)), None, "known already");
        settings.dns.server = DnsServer::Bind;
        settings.dns.address = Some("127.0.0.1:53".parse().unwrap());
        settings.dns.update_key_file = Some("/key".into());
        let Some(Change::UpdateZone(update)) = change(&settings, Some(b"")) else { panic!() };
        assert_eq!((update.update.added.len(), update.update.requires.len()), (1, 1));
    }
}

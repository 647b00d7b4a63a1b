//! The decision to bring a zone in step: with its pattern as it is now (`zone realign`), or with another nameserver set
//! (`zone move`). What somebody made by hand stays and is named.

use std::net::IpAddr;

use jiff::civil::Date;

use super::KeptZone;
use crate::change::Change;
use crate::finding::Finding;
use crate::harbor::NameserverSet;
use crate::name::{DnsName, Hostname};
use crate::zone::rules::judge_loading;
use crate::zone::{
    Document, EditError, Merged, Pattern, Record, RecordData, RecordType, Soa, TemplateError, default_ttl, merge,
};

/// What becomes of one zone.
#[derive(Debug, Clone)]
pub struct Aligned {
    /// `None`: it is in step already.
    pub change: Option<Change>,
    pub merged: Merged,
}

#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum AlignRefused {
    #[error(transparent)]
    Edit(#[from] EditError),
    #[error("it would not be loaded: {} ({})", .0.message, .0.code)]
    Unsound(Finding),
    #[error(transparent)]
    Template(#[from] TemplateError),
}

/// Brings a zone from what it was made by, `before`, to `now`.
pub fn align(kept: &KeptZone, before: &Document, now: &Document, today: Date) -> Result<Aligned, AlignRefused> {
    let merged = merge(&kept.document, before, now);
    if merged.is_in_step() {
        return Ok(Aligned { change: None, merged });
    }
    let edited = kept.document.with_changes(&merged.removed, &merged.added, merged.soa.as_ref(), today)?;
    let known = judge_loading(&kept.document);
    if let Some(finding) = judge_loading(&edited).into_iter().find(|finding| !known.contains(finding)) {
        return Err(AlignRefused::Unsound(finding));
    }
    let change = kept.change(&edited, &merged.removed, &merged.added);
    Ok(Aligned { change: Some(change), merged })
}

/// What a pattern gives a zone, with the addresses that attaching gave to further hostnames in it.
pub fn made_by(
    pattern: &Pattern,
    domain: &Hostname,
    attached: &[Hostname],
    zone: &Document,
) -> Result<Document, TemplateError> {
    let made = pattern.zone(domain, zone.soa().serial)?;
    let mut records: Vec<Record> = made.records().cloned().collect();
    let ttl = default_ttl(zone);
    for hostname in attached {
        let owner = hostname.dns_name();
        // A name that the template itself leads somewhere follows the template.
        let leads = |record: &Record| record.data.address().is_some() || record.record_type() == RecordType::CNAME;
        if !made.records().any(|record| record.owner == owner && leads(record)) {
            let addresses = pattern.addresses.iter();
            records.extend(addresses.map(|address| Record {
                owner: owner.clone(),
                ttl,
                data: RecordData::of_address(*address),
            }));
        }
    }
    Ok(Document::of_records(&records, made.origin())?)
}

/// A zone reduced to what a nameserver set decides: the start of authority, NS records, and addresses of those
/// nameservers that lie inside it. The TTLs are those of the zone.
pub fn delegated_to(set: &NameserverSet, hostmaster: &DnsName, zone: &Document) -> Result<Document, TemplateError> {
    let primary = set.nameservers.first().ok_or(TemplateError::NoNameserver)?;
    let apex = zone.origin();
    let ns_ttl = zone.records().find(|record| record.owner == *apex && record.record_type() == RecordType::NS);
    let ttl = ns_ttl.map_or_else(|| default_ttl(zone), |record| record.ttl);
    let soa = Soa { primary: primary.clone(), hostmaster: hostmaster.clone(), ..zone.soa().clone() };
    let mut records = vec![Record { owner: apex.clone(), ttl, data: RecordData::Soa(Box::new(soa)) }];
    let ns = set.nameservers.iter().map(|name| Record { owner: apex.clone(), ttl, data: RecordData::Ns(name.clone()) });
    records.extend(ns);
    for name in set.nameservers.iter().filter(|name| name.is_within(apex)) {
        let addresses: &[IpAddr] = set.addresses.get(name).map(Vec::as_slice).unwrap_or_default();
        if addresses.is_empty() {
            return Err(TemplateError::NameserverAddress(name.clone()));
        }
        records.extend(addresses.iter().map(|address| Record {
            owner: name.clone(),
            ttl,
            data: RecordData::of_address(*address),
        }));
    }
    Ok(Document::of_records(&records, apex)?)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::AccountName;
    use crate::change::Purpose;
    use crate::harbor::Settings;
    use crate::zone::Mail;
    use crate::zone::{Zone, ZoneDesign, ZoneHome, ZonePlace};

    const TODAY: Date = Date::constant(2026, 11, 23);

    fn settings(address: &str) -> Settings {
        let mut settings = Settings::default();
        settings.host.nameservers = vec![DnsName::absolute("ns1.saltmarsh.example").unwrap()];
        settings.host.addresses = vec![address.parse().unwrap()];
        settings
    }

    fn pattern(address: &str) -> Pattern {
        ZoneDesign::plain(Mail::None).pattern(None, &settings(address)).unwrap()
    }

    fn kept(text: &str) -> KeptZone {
        let name = Hostname::parse("gullrock.example").unwrap();
        let document = Document::parse(text, &name.dns_name()).unwrap();
        let zone = Zone::new(name, AccountName::parse("boatyard").unwrap(), ZoneHome::Here);
        KeptZone { zone, document, place: ZonePlace::File { path: "/harbor/zones/gullrock.example.zone".into() } }
    }

    fn text_of(change: &Change) -> String {
        let Change::WriteFile(write) = change else { panic!("{change:?}") };
        assert!(matches!(write.purpose, Purpose::ZoneFile { .. }));
        String::from_utf8_lossy(&write.content).into_owned()
    }

    #[test]
    fn a_changed_address_reaches_the_template_lines_and_attached_names_but_not_hand_made_ones() {
        let (old, new) = (pattern("192.0.2.10"), pattern("192.0.2.20"));
        let domain = Hostname::parse("gullrock.example").unwrap();
        let made = old.zone(&domain, 2026112301).unwrap();
        let text = String::from_utf8_lossy(made.source()).into_owned();
        let by_hand = "shop\t900\tIN\tA\t192.0.2.10 ; attached\ncrane\tIN\tA\t192.0.2.10 ; the yard's own\n";
        let kept = kept(&format!("{text}{by_hand}"));
        let attached = [Hostname::parse("shop.gullrock.example").unwrap()];
        let before = made_by(&old, &domain, &attached, &kept.document).unwrap();
        let now = made_by(&new, &domain, &attached, &kept.document).unwrap();
        let aligned = align(&kept, &before, &now, TODAY).unwrap();
        assert_eq!((aligned.merged.removed.len(), aligned.merged.added.len()), (3, 3));
        let text = text_of(&aligned.change.unwrap());
        assert!(text.contains("shop\t900\tIN\tA\t192.0.2.20\n"), "{text}");
        assert!(text.contains("crane\tIN\tA\t192.0.2.10 ; the yard's own\n"), "{text}");
        let again = align(&kept, &now, &now, TODAY).unwrap();
        assert!(again.change.is_none());
    }

    #[test]
    fn another_nameserver_set_changes_ns_and_start_of_authority_alone() {
        let kept = kept(
            "$TTL 3600\n@ SOA ns1.saltmarsh.example. host.saltmarsh.example. ( 7 ; serial\n 4h 30m 4w 5m )\n\
             @ 900 NS ns1.saltmarsh.example.\n@ A 192.0.2.1\n",
        );
        let set = |names: &[&str]| NameserverSet {
            nameservers: names.iter().map(|name| DnsName::absolute(name).unwrap()).collect(),
            addresses: [(DnsName::absolute("ns.gullrock.example").unwrap(), vec!["192.0.2.53".parse().unwrap()])]
                .into(),
            ..NameserverSet::default()
        };
        let host = DnsName::absolute("host.saltmarsh.example").unwrap();
        let before = delegated_to(&set(&["ns1.saltmarsh.example"]), &host, &kept.document).unwrap();
        let own = set(&["ns.gullrock.example", "ns2.saltmarsh.example"]);
        let now = delegated_to(&own, &host, &kept.document).unwrap();
        let text = text_of(&align(&kept, &before, &now, TODAY).unwrap().change.unwrap());
        assert!(text.contains("@ SOA ns.gullrock.example. host.saltmarsh.example. ( 8 ; serial\n"), "{text}");
        assert!(text.contains("@\t900\tIN\tNS\tns.gullrock.example.\n"), "{text}");
        assert!(text.contains("ns\t900\tIN\tA\t192.0.2.53") && !text.contains("NS ns1"), "{text}");
        let strange = set(&["ns9.gullrock.example"]);
        assert!(matches!(delegated_to(&strange, &host, &kept.document), Err(TemplateError::NameserverAddress(_))));
    }
}

//! The decision to detach hostnames: what was attached is taken back, but nothing in a home, and no certificate.

use std::path::PathBuf;

use jiff::civil::Date;

use super::{Site, change_site};
use crate::certificate::DemandedProof;
use crate::change::{Change, ChangeSet, FileRemoval, InventoryChange, Purpose};
use crate::harbor::{Layout, Settings};
use crate::name::Hostname;
use crate::zone::{EditError, KeptZone, Record};

/// What the decision rests on.
#[derive(Debug, Clone)]
pub struct DetachLoaded {
    pub site: Site,
    pub site_file: Option<Vec<u8>>,
    /// The files for a seller of its certificate, as they lie there.
    pub demanded: Vec<(PathBuf, Vec<u8>)>,
    /// The records for that seller which stand in zones that cannot be changed from here.
    pub demanded_elsewhere: Vec<DemandedProof>,
    /// The zones that hold the names or those records, where they can be changed from here.
    pub zones: Vec<KeptZone>,
}

/// What becomes of zones whose own name is detached.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ZoneFate {
    Kept,
    Removed,
}

/// The names that really go when these are detached: all with the main one, and twins together.
pub fn leaving(names: &[Hostname], site: &Site) -> Vec<Hostname> {
    if names.contains(site.main()) {
        return site.hostnames.clone();
    }
    let mut gone = names.to_vec();
    // A twin does not stay alone.
    let twins: Vec<Hostname> = gone.iter().filter_map(Hostname::with_www).collect();
    gone.extend(twins.into_iter().filter(|twin| site.hostnames.contains(twin) && !names.contains(twin)));
    gone
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
    let gone = leaving(names, site);
    let mut said = Vec::new();
    if whole {
        if let Some(before) = &loaded.site_file {
            let path = layout.site_file(settings.web.server, site.main());
            set.changes.push(Change::RemoveFile(FileRemoval::new(path, before.clone(), 0o644, Purpose::SiteFile)));
        }
        for (path, before) in &loaded.demanded {
            set.changes.push(Change::RemoveFile(FileRemoval::new(path.clone(), before.clone(), 0o644, Purpose::Loose)));
        }
        set.inventory(InventoryChange::RemoveSite(site.clone()));
        said.push(format!("{} is detached, with all its names", site.main()));
        said.push(format!("its pages stay in {}", site.document_root.display()));
        if let Some(files) = &site.certificate {
            said.push(format!("its certificate stays in {}, and is not renewed", files.folder().display()));
        }
        said.extend(loaded.demanded_elsewhere.iter().map(|proof| proof.farewell(site, true)));
    } else {
        let mut after = site.clone();
        after.hostnames.retain(|hostname| !gone.contains(hostname));
        after.rules.redirects.retain(|redirect| after.hostnames.iter().any(|hostname| redirect.is_for(hostname)));
        change_site(set, site, &after, loaded.site_file.clone(), settings, layout);
        let names = gone.iter().map(Hostname::as_str).collect::<Vec<_>>().join(" and ");
        said.push(format!(
            "{names} {} detached from the site {}",
            if gone.len() == 1 { "is" } else { "are" },
            site.main()
        ));
    }
    for kept in &loaded.zones {
        let demanded = |record: &&Record| {
            let is_it = |proof: &DemandedProof| matches!(proof, DemandedProof::Record { owner, data } if *owner == record.owner && *data == record.data);
            whole && site.rules.demands.iter().any(|demand| is_it(&demand.proof))
        };
        let ours = |record: &&Record| {
            let named = gone.iter().any(|name| name.dns_name() == record.owner);
            named && record.data.address().is_some_and(|address| settings.host.addresses.contains(&address))
        };
        let addresses = kept.document.records().filter(ours).count();
        let gone = |record: &&Record| ours(record) || demanded(record);
        let records: Vec<Record> = kept.document.records().filter(gone).cloned().collect();
        if records.is_empty() {
            continue;
        }
        let edited = kept.document.without_records(&records, today)?;
        set.extend(vec![kept.change(&edited, &records, &[])]);
        let addresses = match addresses {
            0 => "what a seller of its certificate wanted to see".to_string(),
            1 => "the address that led here".to_string(),
            count => format!("the {count} addresses that led here"),
        };
        said.push(format!("the zone {} is kept, without {addresses}", kept.zone.name));
    }
    Ok(said)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::AccountName;
    use crate::harbor::{DnsServer, WebServer};
    use crate::redirect::{Redirect, Sides, Source, Target};
    use crate::site::{HttpsState, SiteKind, SiteRules};
    use crate::zone::Document;
    use crate::zone::{KeptZone, Zone, ZoneHome, ZonePlace};

    const TODAY: Date = Date::constant(2026, 11, 23);
    const ZONE: &str = "$TTL 900\n@ SOA ns1.saltmarsh.example. host 7 4h 30m 4w 5m\n@ NS ns1.saltmarsh.example.\n\
                        @ A 192.0.2.10\nwww A 192.0.2.10\nmail A 192.0.2.99\n";

    fn name(text: &str) -> Hostname {
        Hostname::parse(text).unwrap()
    }

    fn settings() -> Settings {
        let mut settings = Settings::default();
        settings.host.addresses = vec!["192.0.2.10".parse().unwrap()];
        settings.web.server = WebServer::Nginx;
        settings.dns.server = DnsServer::Bind;
        settings
    }

    fn kept(domain: &str) -> KeptZone {
        let zone = Zone::new(name(domain), AccountName::parse("boatyard").unwrap(), ZoneHome::Here);
        let document = Document::parse(ZONE, &zone.name.dns_name()).unwrap();
        let path = Layout::new("/harbor").zone_file(&zone.name);
        KeptZone { zone, document, place: ZonePlace::File { path } }
    }

    fn loaded(zones: Vec<KeptZone>) -> DetachLoaded {
        let names = ["gullrock.example", "www.gullrock.example", "quay.example", "www.quay.example"];
        let redirect = |host: &str| Redirect {
            source: Source::parse(&format!("{host}/old"), false).unwrap(),
            target: Target::parse("/new", false).unwrap(),
            status: 302,
            keep_path: false,
            sides: Sides::Both,
            until: None,
        };
        let redirects = vec![redirect("gullrock.example"), redirect("quay.example")];
        let site = Site {
            account: AccountName::parse("boatyard").unwrap(),
            hostnames: names.map(name).to_vec(),
            document_root: "/home/boatyard/www".into(),
            kind: SiteKind::AddonDomain,
            https: HttpsState::None,
            certificate: None,
            rules: SiteRules { redirects, ..SiteRules::default() },
        };
        DetachLoaded { site, site_file: Some(b"served".to_vec()), demanded: vec![], demanded_elsewhere: vec![], zones }
    }

    fn decided(names: &[&str], loaded: &DetachLoaded) -> (ChangeSet, Vec<String>) {
        let mut set = ChangeSet::new("detach");
        let names: Vec<Hostname> = names.iter().map(|text| name(text)).collect();
        let said = detach(&names, loaded, &settings(), &Layout::new("/harbor"), TODAY, &mut set).unwrap();
        (set, said)
    }

    #[test]
    fn a_parked_domain_takes_its_twin_its_redirects_and_its_addresses_along() {
        let (set, said) = decided(&["quay.example"], &loaded(vec![kept("quay.example")]));
        assert_eq!(said[0], "quay.example and www.quay.example are detached from the site gullrock.example");
        let after = set.inventory_changes().find_map(|change| match change {
            InventoryChange::ReplaceSite { after, .. } => Some(after.clone()),
            _ => None,
        });
        let after = after.unwrap();
        assert_eq!((after.hostnames.len(), after.rules.redirects.len()), (2, 1));
        let zone = set.pending(std::path::Path::new("/harbor/zones/quay.example.zone")).unwrap();
        let text = String::from_utf8_lossy(zone).into_owned();
        assert!(!text.contains("192.0.2.10\n") && text.contains("mail A 192.0.2.99\n"), "{text}");
        assert!(set.needs().web_reload);
    }

    #[test]
    fn the_main_name_takes_the_whole_site_and_says_what_stays() {
        let (set, said) = decided(&["gullrock.example"], &loaded(vec![]));
        let lines: Vec<String> = set.changes.iter().map(Change::line).collect();
        let expected =
            ["remove /harbor/servers/nginx/gullrock.example.conf", "inventory: remove site gullrock.example"];
        assert_eq!(lines, expected);
        assert!(said[1].contains("its pages stay in /home/boatyard/www") && set.needs().web_reload);
    }
}

//! The decision to detach hostnames: what was attached is taken back, but nothing in a home, and no certificate.

use std::path::PathBuf;

use jiff::civil::Date;

use super::change::{ask_for_hand_edit, change_site};
use super::{Site, SiteRefusal, SiteRemark};
use crate::certificate::{CertificateRemark, DemandedProof};
use crate::change::{Change, FileRemoval, InventoryChange, Plan, Purpose};
use crate::harbor::{Layout, Settings};
use crate::name::Host;
use crate::redirect::{Redirect, RedirectRemark};
use crate::zone::{KeptZone, Record, ZoneRemark};

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
pub fn leaving(names: &[Host], site: &Site) -> Vec<Host> {
    if names.contains(site.main()) {
        return site.hostnames.clone();
    }
    let mut gone = names.to_vec();
    // A twin does not stay alone.
    let twins: Vec<Host> = gone.iter().filter_map(Host::with_www).collect();
    gone.extend(twins.into_iter().filter(|twin| site.hostnames.contains(twin) && !names.contains(twin)));
    gone
}

/// Decides that names of one site go; all of them with its main one.
pub fn detach(
    names: &[Host],
    loaded: &DetachLoaded,
    settings: &Settings,
    layout: &Layout,
    today: Date,
) -> Result<Plan, SiteRefusal> {
    let site = &loaded.site;
    let whole = names.contains(site.main());
    let gone = leaving(names, site);
    let mut plan = Plan::new(format!("detach {}", site.main()));
    if whole {
        take_site(loaded, settings, layout, &mut plan);
    } else {
        let after = site.without_hosts(&gone);
        for redirect in site.rules.redirects.iter().filter(|one| !after.rules.redirects.contains(one)) {
            plan.remark(gone_with_it(redirect));
        }
        plan.remark(SiteRemark::NamesDetached { site: site.main().clone(), names: gone.clone() });
        change_site(&mut plan, site, &after, loaded.site_file.clone(), settings, layout);
    }
    for kept in &loaded.zones {
        let demanded = |record: &&Record| {
            let is_it = |proof: &DemandedProof| matches!(proof, DemandedProof::Record { owner, data } if *owner == record.owner && *data == record.data);
            whole && site.rules.demands.iter().any(|demand| is_it(&demand.proof))
        };
        let ours = |record: &&Record| {
            let named = gone.iter().any(|name| name.dns_name().as_ref() == Some(&record.owner));
            named && record.data.address().is_some_and(|address| settings.host.addresses.contains(&address))
        };
        let addresses = kept.document.records().filter(ours).count();
        let gone = |record: &&Record| ours(record) || demanded(record);
        let records: Vec<Record> = kept.document.records().filter(gone).cloned().collect();
        if records.is_empty() {
            continue;
        }
        let zone = || kept.zone.name.clone();
        let refuses = |error| SiteRefusal::ZoneKeepsAddresses { zone: zone(), error };
        let edited = kept.document.without_records(&records, today).map_err(refuses)?;
        plan.change(kept.change(&edited, &records, &[]));
        plan.remark(ZoneRemark::AddressesRemoved { zone: zone(), addresses, others: records.len() - addresses });
    }
    Ok(plan)
}

/// What is reported of a redirect that goes with its hosts.
fn gone_with_it(redirect: &Redirect) -> RedirectRemark {
    RedirectRemark::Removed { source: redirect.source.clone(), was_permanent: matches!(redirect.status, 301 | 308) }
}

/// The whole site: its file, what a seller looks at, its entry. Its pages and its certificate stay.
fn take_site(loaded: &DetachLoaded, settings: &Settings, layout: &Layout, plan: &mut Plan) {
    let site = &loaded.site;
    if let Some(before) = &loaded.site_file {
        let path = layout.site_file(settings.web.server, site.main());
        plan.change(Change::RemoveFile(FileRemoval::new(path, before.clone(), 0o644, Purpose::SiteFile)));
    }
    for (path, before) in &loaded.demanded {
        plan.change(Change::RemoveFile(FileRemoval::new(path.clone(), before.clone(), 0o644, Purpose::Loose)));
    }
    plan.set.inventory(InventoryChange::RemoveSite(site.clone()));
    plan.remark(SiteRemark::Detached { site: site.main().clone() });
    site.rules.redirects.iter().for_each(|redirect| plan.remark(gone_with_it(redirect)));
    plan.remark(SiteRemark::PagesStay { document_root: site.document_root.clone() });
    if let Some(files) = &site.certificate {
        plan.remark(SiteRemark::CertificateStays { folder: files.folder().to_path_buf() });
    }
    ask_for_hand_edit(plan, site, loaded.site_file.as_deref(), settings, layout);
    for proof in &loaded.demanded_elsewhere {
        plan.remark(CertificateRemark::DemandOver { site: site.main().clone(), proof: proof.clone(), elsewhere: true });
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::AccountName;
    use crate::harbor::{DnsServer, WebServer};
    use crate::name::Hostname;
    use crate::redirect::{Source, Target};
    use crate::site::{HttpsStates, SiteKind, SiteRules};
    use crate::zone::Document;
    use crate::zone::{KeptZone, Zone, ZoneHome, ZonePlace};

    const TODAY: Date = Date::constant(2026, 11, 23);
    const ZONE: &str = "$TTL 900\n@ SOA ns1.saltmarsh.example. host 7 4h 30m 4w 5m\n@ NS ns1.saltmarsh.example.\n\
                        @ A 192.0.2.10\nwww A 192.0.2.10\nmail A 192.0.2.99\n";

    fn name(text: &str) -> Host {
        Host::parse(text).unwrap()
    }

    fn settings() -> Settings {
        let mut settings = Settings::default();
        settings.host.addresses = vec!["192.0.2.10".parse().unwrap()];
        settings.web.server = WebServer::Nginx;
        settings.dns.server = DnsServer::Bind;
        settings
    }

    fn kept(domain: &str) -> KeptZone {
        let zone = Zone::new(Hostname::parse(domain).unwrap(), AccountName::parse("boatyard").unwrap(), ZoneHome::Here);
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
            with_twin: true,
            until: None,
        };
        let redirects = vec![redirect("gullrock.example"), redirect("quay.example")];
        let site = Site {
            account: AccountName::parse("boatyard").unwrap(),
            hostnames: names.map(name).to_vec(),
            document_root: "/home/boatyard/www".into(),
            kind: SiteKind::AddonDomain,
            https: HttpsStates::default(),
            certificate: None,
            rules: SiteRules { redirects, ..SiteRules::default() },
        };
        DetachLoaded { site, site_file: Some(b"served".to_vec()), demanded: vec![], demanded_elsewhere: vec![], zones }
    }

    fn decided(names: &[&str], loaded: &DetachLoaded) -> Plan {
        let names: Vec<Host> = names.iter().map(|text| name(text)).collect();
        detach(&names, loaded, &settings(), &Layout::new("/harbor"), TODAY).unwrap()
    }

    #[test]
    fn an_alias_domain_takes_its_twin_its_redirects_and_its_addresses_along() {
        let Plan { set, remarks, .. } = decided(&["quay.example"], &loaded(vec![kept("quay.example")]));
        let names = ["quay.example", "www.quay.example"].map(name).to_vec();
        let site = name("gullrock.example");
        let old = Source::parse("quay.example/old", false).unwrap();
        assert_eq!(remarks[0], RedirectRemark::Removed { source: old, was_permanent: false }.into());
        assert_eq!(remarks[1], SiteRemark::NamesDetached { site, names }.into());
        let zone = Hostname::parse("quay.example").unwrap();
        assert!(
            matches!(remarks[2], crate::change::Remark::Site(SiteRemark::EditKept { .. })),
            "what was done comes first"
        );
        assert_eq!(remarks[3], ZoneRemark::AddressesRemoved { zone, addresses: 2, others: 0 }.into());
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
        let Plan { set, remarks, consents } = decided(&["gullrock.example"], &loaded(vec![]));
        let lines: Vec<String> = set.changes.iter().map(Change::line).collect();
        let copy = Layout::new("/harbor").removed_site_file(&name("gullrock.example"), b"served");
        let expected = [
            "remove /harbor/servers/nginx/gullrock.example.conf".to_string(),
            "inventory: remove site gullrock.example".to_string(),
            format!("write {} (600)", copy.display()),
        ];
        assert_eq!(lines, expected);
        let document_root = "/home/boatyard/www".into();
        assert_eq!(remarks[3], SiteRemark::PagesStay { document_root }.into());
        // The file is none that was written here: somebody would lose it.
        assert!(set.needs().web_reload && consents.len() == 1);
    }
}

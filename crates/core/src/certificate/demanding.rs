//! What changes when a site gets other demands: which files and records come and go, and what is said of those that went.
//!
//! What a demand is stands in `demand`; reading the files and zones concerned is the command's.

use std::collections::BTreeMap;
use std::path::PathBuf;

use jiff::Timestamp;
use jiff::civil::Date;

use super::{CertificateRefusal, CertificateRemark, Demand, DemandedProof};
use crate::change::{Change, ExistingFile, FileRemoval, FileWrite, Plan, Purpose};
use crate::harbor::{Layout, Settings};
use crate::name::DnsName;
use crate::site::{Site, change_site};
use crate::zone::rules::Surroundings;
use crate::zone::{AlterRefused, AlterRequest, KeptZone, Record, alter, serial_date};

/// A file of the harbor's folder of proofs, with what it is to hold from now on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DemandedFile {
    pub path: PathBuf,
    /// Nothing: it is to go.
    pub content: Option<String>,
}

impl Site {
    /// With further demands, which take the place of those for the same path. The same once more only gets another day.
    pub fn demanding(&self, new: Vec<Demand>) -> Site {
        let mut after = self.clone();
        let displaced = |demand: &Demand| new.iter().any(|other| other.proof.displaces(&demand.proof));
        after.rules.demands.retain(|demand| !displaced(demand));
        after.rules.demands.extend(new);
        after
    }

    /// Without the demands that are not `kept`.
    pub fn demanding_only(&self, kept: impl Fn(&Demand) -> bool) -> Site {
        let mut after = self.clone();
        after.rules.demands.retain(kept);
        after
    }

    /// Those that another state of the site has no more.
    pub fn demands_gone_in<'a>(&'a self, after: &'a Site) -> impl Iterator<Item = &'a Demand> {
        self.rules.demands.iter().filter(|demand| !after.rules.demands.contains(demand))
    }
}

/// The records that are to go, then those that are to be there: those of before too, so that one comes back that somebody
/// has removed.
pub fn demanded_records(before: &Site, after: &Site) -> Vec<AlterRequest> {
    let wanted: Vec<&DemandedProof> = after.rules.demands.iter().map(|demand| &demand.proof).collect();
    let old = before.rules.demands.iter().map(|demand| &demand.proof);
    let gone = old.filter(|proof| !wanted.contains(proof)).filter_map(|proof| proof.request(false));
    gone.chain(wanted.iter().filter_map(|proof| proof.request(true))).collect()
}

/// The files that are to be there, then those that are to go.
pub fn demanded_files(before: &Site, after: &Site, layout: &Layout) -> Vec<DemandedFile> {
    let of = |site: &Site| -> Vec<(PathBuf, String)> {
        let files = site.demanded_files().map(|(_, content, name)| (layout.proofs().join(name), content.to_string()));
        files.collect()
    };
    let (old, new) = (of(before), of(after));
    let is_new = |path: &PathBuf| new.iter().any(|(other, _)| other == path);
    let gone: Vec<PathBuf> = old.into_iter().map(|(path, _)| path).filter(|path| !is_new(path)).collect();
    let wanted = new.into_iter().map(|(path, content)| DemandedFile { path, content: Some(content) });
    wanted.chain(gone.into_iter().map(|path| DemandedFile { path, content: None })).collect()
}

impl DemandedFile {
    /// What is to be done, given what is there; nothing if it is as it should be.
    pub fn change(self, present: Option<Vec<u8>>) -> Option<Change> {
        match (self.content, present) {
            (Some(content), present) if present.as_deref() != Some(content.as_bytes()) => {
                Some(Change::WriteFile(FileWrite::new(self.path, present, content, 0o644, Purpose::Loose)))
            }
            (None, Some(present)) => {
                Some(Change::RemoveFile(FileRemoval::new(self.path, present, 0o644, Purpose::Loose)))
            }
            _ => None,
        }
    }
}

/// Brings one zone in step with what is demanded of it; nothing if it is.
pub fn zone_in_step(
    kept: &KeptZone,
    requests: &[AlterRequest],
    around: &Surroundings,
    today: Date,
) -> Result<Option<Change>, AlterRefused> {
    let (mut document, mut removed, mut added) = (kept.document.clone(), Vec::new(), Vec::new());
    for request in requests {
        let all: Vec<Record> = document.records().cloned().collect();
        if request.is_seen_in(&all) {
            continue;
        }
        let altered = alter(&document, request, around, today)?;
        document = altered.zone;
        removed.extend(altered.facts.removed);
        added.extend(altered.facts.added);
    }
    let is_in_step = removed.is_empty() && added.is_empty();
    Ok((!is_in_step).then(|| kept.change(&document, &removed, &added)))
}

/// What the decision about other demands rests on.
#[derive(Debug, Clone)]
pub struct DemandsLoaded {
    pub site: Site,
    pub site_file: ExistingFile,
    /// The files concerned that there are, by path.
    pub files: BTreeMap<PathBuf, Vec<u8>>,
    /// The zones of the records concerned that can be changed from here, with what else is known of them.
    pub zones: Vec<(KeptZone, Surroundings)>,
}

impl DemandsLoaded {
    fn zone_of(&self, owner: &DnsName) -> Option<usize> {
        let within = |at: &usize| owner.is_within(&self.zones[*at].0.zone.name.dns_name());
        (0..self.zones.len()).filter(within).max_by_key(|at| self.zones[*at].0.zone.name.as_str().len())
    }
}

/// Decides what shows other demands than before: files, records, and the web server's file of the site.
pub fn change_demands(
    after: &Site,
    loaded: &DemandsLoaded,
    settings: &Settings,
    layout: &Layout,
    title: &str,
    now: Timestamp,
) -> Result<Plan, CertificateRefusal> {
    let before = &loaded.site;
    let mut plan = Plan::new(title);
    let mut by_zone: BTreeMap<usize, Vec<AlterRequest>> = BTreeMap::new();
    for request in demanded_records(before, after) {
        if let Some(at) = loaded.zone_of(&request.owner) {
            by_zone.entry(at).or_default().push(request);
        }
    }
    for (at, requests) in by_zone {
        let (kept, around) = &loaded.zones[at];
        let change = zone_in_step(kept, &requests, around, serial_date(now)).map_err(CertificateRefusal::Zone)?;
        plan.set.changes.extend(change);
    }
    // New files are there before the server is told of them; those that go, go after it.
    let (come, gone): (Vec<_>, Vec<_>) =
        demanded_files(before, after, layout).into_iter().partition(|file| file.content.is_some());
    let present = |file: &DemandedFile| loaded.files.get(&file.path).cloned();
    for file in come {
        let there = present(&file);
        plan.set.extend(file.change(there));
    }
    if after != before {
        change_site(&mut plan, before, after, loaded.site_file.clone(), settings, layout);
    }
    for file in gone {
        let there = present(&file);
        plan.set.extend(file.change(there));
    }
    for demand in before.demands_gone_in(after).filter(|gone| !is_displaced(&gone.proof, after)) {
        let elsewhere = match &demand.proof {
            DemandedProof::Record { owner, .. } => loaded.zone_of(owner).is_none(),
            DemandedProof::File { .. } => false,
        };
        let (site, proof) = (before.main().clone(), demand.proof.clone());
        plan.remark(CertificateRemark::DemandOver { site, proof, elsewhere });
    }
    Ok(plan)
}

/// Whether the same thing is demanded on, by another content or until another day.
fn is_displaced(proof: &DemandedProof, after: &Site) -> bool {
    after.rules.demands.iter().any(|demand| demand.proof.displaces(proof))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::AccountName;
    use crate::change::Remark;
    use crate::name::{DnsName, Host, Hostname};
    use crate::site::{HttpsStates, SiteKind, SiteRules};
    use crate::zone::Document;
    use crate::zone::{Zone, ZoneHome, ZonePlace};

    fn site() -> Site {
        Site {
            account: AccountName::parse("boatyard").unwrap(),
            hostnames: vec![Host::parse("gullrock.example").unwrap()],
            document_root: "/home/boatyard/www/gullrock.example".into(),
            kind: SiteKind::AddonDomain,
            https: HttpsStates::default(),
            certificate: None,
            rules: SiteRules::default(),
        }
    }

    fn demand(proof: DemandedProof) -> Demand {
        Demand { until: Timestamp::UNIX_EPOCH, proof }
    }

    fn file(content: &str) -> Demand {
        demand(DemandedProof::file("/a.txt", content.as_bytes()).unwrap())
    }

    fn record(typed: &str) -> Demand {
        demand(DemandedProof::record(typed, &site()).unwrap().value)
    }

    fn kept(lines: &str) -> KeptZone {
        let name = Hostname::parse("gullrock.example").unwrap();
        let text = format!("$TTL 300\n@ SOA ns1 host 2026112301 4h 30m 4w 5m\n@ NS ns1.saltmarsh.example.\n{lines}");
        KeptZone {
            document: Document::parse(text, &DnsName::absolute("gullrock.example").unwrap()).unwrap(),
            zone: Zone::new(name, site().account, ZoneHome::Here),
            place: ZonePlace::File { path: "/harbor/zones/gullrock.example.zone".into() },
        }
    }

    fn written(change: Option<Change>) -> Option<String> {
        match change? {
            Change::WriteFile(write) => Some(String::from_utf8(write.content.to_vec()).unwrap()),
            other => panic!("{other:?}"),
        }
    }

    #[test]
    fn a_file_takes_the_place_of_the_one_at_its_path() {
        let before = site().demanding(vec![file("one"), record("_x TXT y")]);
        let after = before.demanding(vec![file("two")]);
        assert_eq!(after.rules.demands, [record("_x TXT y"), file("two")]);
        let files = demanded_files(&before, &after, &Layout::new("/harbor"));
        assert_eq!(files.iter().map(|one| one.content.as_deref()).collect::<Vec<_>>(), [Some("two"), None]);
        assert_ne!(files[0].path, files[1].path);
        let [new, old] = &files[..] else { panic!("{files:?}") };
        assert!(matches!(new.clone().change(None), Some(Change::WriteFile(_))));
        assert_eq!(new.clone().change(Some(b"two".to_vec())), None);
        assert!(matches!(old.clone().change(Some(b"one".to_vec())), Some(Change::RemoveFile(_))));
        assert_eq!(old.clone().change(None), None, "somebody was quicker");
    }

    #[test]
    fn a_zone_is_brought_in_step_once() {
        let (none, both) = (site(), site().demanding(vec![record("_x TXT y"), record("_z CNAME a.seller.example.")]));
        let around = Surroundings::default();
        let step = |zone: &KeptZone, before: &Site, after: &Site| {
            let today = "2026-11-23".parse().unwrap();
            written(zone_in_step(zone, &demanded_records(before, after), &around, today).unwrap())
        };
        let there = step(&kept(""), &none, &both).unwrap();
        assert!(there.contains("_x\t300\tIN\tTXT\t\"y\"") && there.contains("a.seller.example."), "{there}");
        let lines = "_x TXT y\n_z CNAME a.seller.example.\nwww A 192.0.2.10\n";
        assert_eq!(step(&kept(lines), &none, &both), None);
        // One that somebody has taken out comes back, although nothing else is demanded now.
        assert!(step(&kept("_x TXT y\n"), &both, &both).unwrap().contains("a.seller.example."));
        let left = step(&kept(lines), &both, &both.demanding_only(|one| *one == record("_x TXT y"))).unwrap();
        assert!(left.contains("_x TXT y") && left.contains("www A") && !left.contains("_z"), "{left}");
    }

    #[test]
    fn what_went_is_told_with_who_has_to_do_it() {
        let before = site().demanding(vec![file("one"), record("_x TXT y")]);
        let after = before.demanding_only(|_| false);
        let elsewhere = |zones: Vec<(KeptZone, Surroundings)>| -> Vec<bool> {
            let loaded = DemandsLoaded { site: before.clone(), site_file: None, files: BTreeMap::new(), zones };
            let now = "2026-11-27T12:00:00Z".parse().unwrap();
            let (settings, layout) = (Settings::default(), Layout::new("/harbor"));
            let plan = change_demands(&after, &loaded, &settings, &layout, "test", now).unwrap();
            let over = plan.remarks.into_iter().map(|remark| match remark {
                Remark::Certificate(CertificateRemark::DemandOver { elsewhere, .. }) => elsewhere,
                other => panic!("{other:?}"),
            });
            over.collect()
        };
        assert_eq!(elsewhere(vec![(kept("_x TXT y\n"), Surroundings::default())]), [false, false]);
        assert_eq!(elsewhere(vec![]), [false, true]);
    }
}

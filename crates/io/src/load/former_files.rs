//! What lies beside the certificate in place: former ones of a site, one that was laid aside, and requests for ones that
//! are to be bought. Read from their folders, so that nothing is missed that is there.

use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use brightharbor_core::certificate::{CertificateFacts, CertificateFiles, CertificateSource, Distrust, read_chain};
use brightharbor_core::name::Host;
use brightharbor_core::site::Site;
use jiff::Timestamp;

use crate::clock;
use crate::harbor::Harbor;
use crate::store::StoreError;
use crate::trust;

/// A certificate that was in place once, or was laid aside.
#[derive(Debug, Clone)]
pub struct FormerFound {
    /// The name of its folder, by which it is put back.
    pub name: String,
    pub folder: PathBuf,
    /// The leaf first; empty where it cannot be read.
    pub chain: Vec<CertificateFacts>,
    pub source: CertificateSource,
    pub judged: Result<(), Distrust>,
    /// Its CA has revoked it, or is to be told.
    pub revoked: bool,
}

impl FormerFound {
    pub fn files(&self) -> CertificateFiles {
        CertificateFiles { folder: self.folder.clone() }
    }
}

/// Those of these sites, the newest of each first.
pub fn former_of(harbor: &Harbor, sites: &[Site]) -> Result<Vec<(Host, FormerFound)>, StoreError> {
    // Those that were imported are in no list of what may be cleared away.
    let known = harbor.store.former_certificates(Timestamp::MAX, usize::MAX >> 1)?;
    let ours: HashMap<PathBuf, bool> = known.into_iter().map(|one| (one.files.folder, one.revoked)).collect();
    let to_be_revoked: HashSet<PathBuf> = harbor.store.revocations()?.into_iter().map(|one| one.files.folder).collect();
    let roots = trust::roots(&harbor.settings.internet.trust_roots).ok();
    let mut all = Vec::new();
    for site in sites {
        let mut of_site = folders(&harbor.layout.certificates().join(site.main().as_str()));
        of_site.sort_by(|a, b| b.file_name().cmp(&a.file_name()));
        for folder in of_site {
            if site.certificate.as_ref().is_some_and(|present| present.folder() == folder) {
                continue;
            }
            let Ok(pem) = std::fs::read_to_string(folder.join("chain.pem")) else { continue };
            let chain = read_chain(pem.as_bytes()).unwrap_or_default();
            let self_signed = chain.first().is_some_and(|leaf| leaf.issuer == leaf.subject);
            let name = folder.file_name().unwrap_or_default().to_string_lossy().into_owned();
            let source = match (self_signed, name == "aside" || ours.contains_key(&folder)) {
                (true, _) => CertificateSource::SelfSigned,
                (false, true) => CertificateSource::Ca,
                (false, false) => CertificateSource::Imported,
            };
            let judged = match &roots {
                Some(roots) => trust::judge_pem(&pem, site.main(), roots, clock::now()),
                None => Err(Distrust::Other("no trust roots could be read".into())),
            };
            let revoked = ours.get(&folder).copied().unwrap_or_default() || to_be_revoked.contains(&folder);
            all.push((site.main().clone(), FormerFound { name, folder, chain, source, judged, revoked }));
        }
    }
    Ok(all)
}

/// A request whose certificate has not come, or an order that is under way.
#[derive(Debug, Clone)]
pub struct UnderWay {
    pub site: Host,
    pub what: UnderWayKind,
    /// When it was made or last went on.
    pub since: Timestamp,
    pub place: PathBuf,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum UnderWayKind {
    /// For a certificate that is to be bought.
    Request,
    /// At a CA.
    Order,
}

/// All of them, the oldest first.
pub fn under_way(harbor: &Harbor) -> Vec<UnderWay> {
    let mut all = Vec::new();
    for of_site in folders(&harbor.layout.requests()) {
        let Some(site) = site_of(&of_site.file_name().unwrap_or_default().to_string_lossy()) else { continue };
        for folder in folders(&of_site) {
            let Some(since) = modified(&folder.join("request.pem")) else { continue };
            all.push(UnderWay { site: site.clone(), what: UnderWayKind::Request, since, place: folder });
        }
    }
    for ca in folders(&harbor.layout.ca()) {
        for file in entries(&ca.join("orders")) {
            let name = file.file_name().unwrap_or_default().to_string_lossy().into_owned();
            let site = name.strip_suffix(".order").and_then(site_of);
            let (Some(site), Some(since)) = (site, modified(&file)) else { continue };
            all.push(UnderWay { site, what: UnderWayKind::Order, since, place: file });
        }
    }
    all.sort_by_key(|one| one.since);
    all
}

fn site_of(name: &str) -> Option<Host> {
    Host::parse(name).ok()
}

fn entries(folder: &Path) -> Vec<PathBuf> {
    std::fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.path()).collect()
}

fn folders(folder: &Path) -> Vec<PathBuf> {
    entries(folder).into_iter().filter(|path| path.is_dir() && !path.is_symlink()).collect()
}

fn modified(path: &Path) -> Option<Timestamp> {
    let modified: SystemTime = std::fs::metadata(path).ok()?.modified().ok()?;
    Timestamp::try_from(modified).ok()
}

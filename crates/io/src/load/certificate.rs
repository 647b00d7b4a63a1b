//! What decisions about certificates rest on.

use std::collections::BTreeMap;
use std::path::PathBuf;

use brightharbor_core::certificate::{
    Certificate, CertificateFiles, CertificateState, DemandsLoaded, Receiving, RevocationStatus, ServiceSeen,
    demanded_files, demanded_records, read_chain,
};
use brightharbor_core::harbor::Service;
use brightharbor_core::site::{FILES_AT_ONCE, Site, first_of_part};
use brightharbor_core::zone::{KeptZone, ZoneHome};
use futures_util::{StreamExt, stream};
use jiff::Timestamp;
use zeroize::Zeroizing;

use super::{LoadError, surroundings};
use crate::harbor::Harbor;
use crate::install::{folder_for, leads_to, read_regular};
use crate::overlay::Overlay;
use crate::probe::RevocationLists;

/// So many CAs are waited for side by side.
const ASKED_AT_ONCE: usize = 8;
/// No chain is longer, in bytes.
const MOST_CHAIN: usize = 1 << 20;

/// The site that is to get a certificate.
pub fn receiving(overlay: &Overlay<'_>, site: Site) -> Result<Receiving, LoadError> {
    Ok(Receiving {
        site_file: overlay.site_file(&site)?,
        present: overlay.store.certificate_of(site.main())?,
        waits: overlay.store.waiting_of(site.main())?.is_some(),
        site,
    })
}

/// The keys that wait for their certificate, the newest first, and the one that is installed.
pub fn waiting_keys(harbor: &Harbor, site: &Site) -> Vec<Zeroizing<String>> {
    let folder = harbor.layout.requests().join(site.main().as_str());
    let mut folders: Vec<PathBuf> =
        std::fs::read_dir(&folder).into_iter().flatten().flatten().map(|entry| entry.path()).collect();
    folders.sort();
    folders.reverse();
    folders.extend(site.certificate.as_ref().map(|files| files.folder().to_path_buf()));
    let read = |folder: &PathBuf| std::fs::read_to_string(folder.join("key.pem")).ok().map(Zeroizing::new);
    folders.iter().filter_map(read).collect()
}

/// Chain and key of an installed certificate; or why they cannot be read, in words.
pub fn chain_and_key(files: &CertificateFiles) -> Result<(String, Zeroizing<String>), String> {
    let read = |path: PathBuf| std::fs::read_to_string(&path).map_err(|error| format!("{}: {error}", path.display()));
    Ok((read(files.chain())?, Zeroizing::new(read(files.key())?)))
}

/// The chain of an installed certificate, if it can be read.
pub fn installed_chain(files: &CertificateFiles) -> Option<Vec<u8>> {
    std::fs::read(files.chain()).ok()
}

/// The certificates of the harbor that their CAs say are revoked, with the time since when. What a CA does not say counts as
/// nothing. Of very many certificates each run looks at a part, as it does at site files.
pub async fn revoked_elsewhere(harbor: &Harbor, now: Timestamp) -> Result<Vec<(Certificate, Timestamp)>, LoadError> {
    let lists = RevocationLists::of(harbor);
    let all = harbor.store.all_certificates()?;
    let first = first_of_part(all.len(), now);
    let part = all.into_iter().skip(first).take(FILES_AT_ONCE);
    let asked = part.filter(|certificate| certificate.state != CertificateState::Revoked).map(async |certificate| {
        let chain = read_chain(&installed_chain(&certificate.files)?).ok()?;
        match lists.status(&chain).await {
            RevocationStatus::Revoked { since, .. } => Some((certificate, since)),
            _ => None,
        }
    });
    Ok(stream::iter(asked).buffered(ASKED_AT_ONCE).filter_map(async |found| found).collect().await)
}

/// What a service has, and what the site of its hostname has.
pub fn service_seen(overlay: &Overlay<'_>, service: &Service, now: Timestamp) -> Result<ServiceSeen, LoadError> {
    let site = overlay.site_of(&(&service.hostname).into())?;
    let files = site.and_then(|site| site.certificate);
    Ok(ServiceSeen {
        certificate: files.map(|files| chain_and_key(&files)),
        // The service's own user may have put anything there.
        present: read_regular(&service.folder.join("chain.pem"), MOST_CHAIN).ok(),
        former: leads_to(service).map_err(|error| error.to_string()),
        folder: folder_for(service, now),
    })
}

/// The files and zones that other demands for a site concern.
pub async fn demands(overlay: &Overlay<'_>, site: Site, after: &Site) -> Result<DemandsLoaded, LoadError> {
    let mut files = BTreeMap::new();
    for file in demanded_files(&site, after, &overlay.layout) {
        if let Some(content) = overlay.file(&file.path)? {
            files.insert(file.path, content);
        }
    }
    let mut zones: Vec<(KeptZone, _)> = Vec::new();
    for request in demanded_records(&site, after) {
        let Some(zone) = overlay.zone_holding(&request.owner)? else { continue };
        if zone.home == ZoneHome::Elsewhere || zones.iter().any(|(kept, _)| kept.zone.name == zone.name) {
            continue;
        }
        zones.push((overlay.read_zone(&zone).await?, surroundings(overlay, &zone)?));
    }
    Ok(DemandsLoaded { site_file: overlay.site_file(&site)?, site, files, zones })
}

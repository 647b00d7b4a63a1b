//! The decisions to put a certificate in place that does not come from an order: imported, self-signed as a stop-gap, or
//! that of another site; and to keep a key and a request for one that is to be bought.

use std::path::PathBuf;

use jiff::Timestamp;

use super::{
    Assembled, Certificate, CertificateDetails, CertificateRefusal, CertificateRemark, CertificateSource, Distrust,
    Install, check_leaf, install, read_chain, uncovered,
};
use crate::acme::{Identifier, identifiers};
use crate::change::{ExistingFile, FileWrite, InventoryChange, Plan, Purpose};
use crate::harbor::{Layout, Settings};
use crate::name::{Host, Hostname};
use crate::site::Site;

/// The site that gets a certificate, as it is.
#[derive(Debug, Clone)]
pub struct Receiving {
    pub site: Site,
    pub site_file: ExistingFile,
    pub present: Option<Certificate>,
    /// Whether something waits for a certificate of the site.
    pub waits: bool,
}

/// What a seller has sent, put together for its key.
#[derive(Debug, Clone)]
pub struct Bought<'a> {
    pub made: Assembled,
    pub key_pem: &'a str,
    /// Whether visitors would trust it.
    pub judged: Result<(), Distrust>,
    /// Whether it is to be installed all the same.
    pub untrusted: bool,
    /// What was found in the files, in words.
    pub found: &'a [String],
    /// Where it came from: a former one is what it was.
    pub source: CertificateSource,
    /// Whether its CA is known to have revoked it.
    pub revoked: bool,
    /// The statement of its CA, where it demands one; or why there is none.
    pub staple: Result<Option<Vec<u8>>, String>,
}

/// Decides that a bought certificate is installed. Gives the plan, and the issuer that is missing.
pub fn import_certificate(
    bought: &Bought<'_>,
    receiving: &Receiving,
    settings: &Settings,
    layout: &Layout,
    now: Timestamp,
) -> Result<Plan, CertificateRefusal> {
    let (site, made) = (&receiving.site, &bought.made);
    let main = || site.main().clone();
    let leaf = &made.chain[0];
    if bought.revoked {
        return Err(CertificateRefusal::Revoked { site: main() });
    }
    check_leaf(leaf, &site.hostnames, now).map_err(|error| CertificateRefusal::Unfit { site: main(), error })?;
    let no_staple = |reason: &String| CertificateRefusal::NoStaple { site: main(), reason: reason.clone() };
    let staple = bought.staple.as_ref().map_err(no_staple)?;
    let is_trusted_now = receiving.present.as_ref().is_some_and(|present| present.is_good(now));
    if let Err(distrust) = &bought.judged
        && !bought.untrusted
        && is_trusted_now
    {
        let (distrust, missing_issuer) = (distrust.clone(), made.missing.clone());
        return Err(CertificateRefusal::Untrusted { site: main(), distrust, missing_issuer });
    }
    let chain_pem = made.chain_pem();
    let wildcards = leaf.names.iter().filter_map(|name| name.strip_prefix("*."));
    let wanted = Install {
        details: CertificateDetails {
            wildcards: wildcards.filter_map(|name| Hostname::parse(name).ok()).collect(),
            ..CertificateDetails::default()
        },
        chain_pem: &chain_pem,
        key_pem: bought.key_pem,
        names: site.hostnames.clone(),
        not_before: leaf.not_before,
        not_after: leaf.not_after,
        now,
        source: bought.source,
        staple: staple.as_deref(),
    };
    let mut plan = Plan::new(format!("certificate import {}", site.main()));
    install(&mut plan, site, &wanted, receiving.site_file.clone(), settings, layout);
    if receiving.waits {
        plan.set.inventory(InventoryChange::EndWait { site: main() });
    }
    plan.remark(CertificateRemark::Covers { site: main(), until: leaf.not_after });
    plan.remark(CertificateRemark::ChainLength { certificates: made.chain.len() });
    // Where visitors trust it, what issues the last one is a root that their programs bring along.
    if let Err(distrust) = &bought.judged {
        if let Some(subject) = made.missing.clone() {
            plan.remark(CertificateRemark::MissingIssuer { subject });
        }
        if bought.untrusted {
            plan.remark(CertificateRemark::Distrusted { site: main(), distrust: distrust.clone() });
        }
    }
    made.said.iter().chain(bought.found).for_each(|words| plan.remark(CertificateRemark::Found(words.clone())));
    Ok(plan)
}

/// A key with a certificate that it has signed itself.
#[derive(Debug, Clone, Copy)]
pub struct SelfSigned<'a> {
    pub chain_pem: &'a str,
    pub key_pem: &'a str,
    pub days: u16,
}

/// Refuses a stop-gap where there is something better.
pub fn refuse_stop_gap(receiving: &Receiving, now: Timestamp) -> Result<(), CertificateRefusal> {
    let better = |one: &&Certificate| one.source != CertificateSource::SelfSigned && one.not_after > now;
    match receiving.present.as_ref().filter(better) {
        Some(better) => {
            let (site, until) = (receiving.site.main().clone(), better.not_after);
            Err(CertificateRefusal::HasBetter { site, until })
        }
        None => Ok(()),
    }
}

/// Decides that a stop-gap is installed.
pub fn install_stop_gap(
    made: SelfSigned<'_>,
    receiving: &Receiving,
    settings: &Settings,
    layout: &Layout,
    now: Timestamp,
) -> Result<Plan, CertificateRefusal> {
    refuse_stop_gap(receiving, now)?;
    let site = &receiving.site;
    let unreadable = |error| CertificateRefusal::Unreadable { site: site.main().clone(), error };
    let facts = read_chain(made.chain_pem.as_bytes()).map_err(unreadable)?;
    let wanted = Install {
        details: CertificateDetails::default(),
        chain_pem: made.chain_pem,
        key_pem: made.key_pem,
        names: site.hostnames.clone(),
        not_before: facts[0].not_before,
        not_after: facts[0].not_after,
        now,
        source: CertificateSource::SelfSigned,
        staple: None,
    };
    let mut plan = Plan::new(format!("certificate self-sign {}", site.main()));
    install(&mut plan, site, &wanted, receiving.site_file.clone(), settings, layout);
    plan.remark(CertificateRemark::StopGap { site: site.main().clone(), days: made.days });
    Ok(plan)
}

/// The site that certificates are for, by the sites that they name: several are nothing to choose among.
pub fn only_site(mut named: Vec<Site>) -> Result<Site, CertificateRefusal> {
    let mut seen: Vec<Host> = Vec::new();
    named.retain(|site| {
        let is_new = !seen.contains(site.main());
        seen.push(site.main().clone());
        is_new
    });
    match named.len() {
        0 => Err(CertificateRefusal::NoSite),
        1 => Ok(named.remove(0)),
        _ => Err(CertificateRefusal::WhichSite { sites: named.iter().map(|site| site.main().clone()).collect() }),
    }
}

/// What a request for a bought certificate is for. Sellers tell the kind of product by the common name, so that a
/// wildcard comes first.
pub fn requested(site: &Site, below: Option<&Host>) -> Result<Vec<Identifier>, CertificateRefusal> {
    let Some(name) = below else { return Ok(identifiers(&site.hostnames, &[])) };
    let mut all = identifiers(&site.hostnames, &[wildcard_parent(name)?]);
    all.rotate_right(1);
    Ok(all)
}

/// The name below which a wildcard for this one stands: `www` is one of the names that it covers.
pub fn wildcard_parent(name: &Host) -> Result<Hostname, CertificateRefusal> {
    let name = name.name().ok_or_else(|| CertificateRefusal::NothingBelow(name.clone()))?;
    Ok(name.without_www().unwrap_or_else(|| name.clone()))
}

/// Decides that a key and a request are kept, in a folder of their own each time: no earlier key is ever lost. A copy of
/// the request may go to a file that was named: `copy_to`.
pub fn keep_request(
    site: &Site,
    names: Vec<Identifier>,
    key_pem: &str,
    request_pem: &str,
    copy_to: Option<PathBuf>,
    layout: &Layout,
    now: Timestamp,
) -> Plan {
    let stamp = now.strftime("%Y%m%d-%H%M%S-%3f").to_string();
    let folder = layout.requests().join(site.main().as_str()).join(stamp);
    let mut plan = Plan::new(format!("certificate request {}", site.main()));
    plan.set.file(FileWrite::new(folder.join("key.pem"), None, key_pem, 0o600, Purpose::Key));
    plan.set.file(FileWrite::new(folder.join("request.pem"), None, request_pem, 0o600, Purpose::Request));
    if let Some(copy) = copy_to {
        plan.set.file(FileWrite::new(copy, None, request_pem, 0o644, Purpose::Request));
    }
    plan.remark(CertificateRemark::Requested { names, folder });
    plan
}

/// Decides that a site takes the certificate of another one, now and at each renewal. `chain_pem` is the certificate of
/// `from`, if it has one.
pub fn share(site: &Site, from: &Site, chain_pem: Option<&str>) -> Result<Plan, CertificateRefusal> {
    let (main, source) = (site.main().clone(), from.main().clone());
    if main == source {
        return Err(CertificateRefusal::OneSite { site: main, from: source });
    }
    if let Some(further) = from.rules.certificate.from.clone() {
        return Err(CertificateRefusal::SharedAlready { from: source, further });
    }
    let Some(chain_pem) = chain_pem else {
        return Err(CertificateRefusal::NothingToShare { site: main, from: source });
    };
    refuse_uncovered(site, &source, chain_pem)?;
    let mut after = site.clone();
    after.rules.certificate.from = Some(source.clone());
    let mut plan = Plan::new(format!("certificate install --site {main} --from {source}"));
    if after != *site {
        plan.set.inventory(InventoryChange::ReplaceSite { before: site.clone(), after });
    }
    plan.remark(CertificateRemark::Shares { site: main, from: source });
    Ok(plan)
}

/// Refuses a certificate of another site that does not cover all names of this one.
pub fn refuse_uncovered(site: &Site, from: &Host, chain_pem: &str) -> Result<(), CertificateRefusal> {
    let unreadable = |error| CertificateRefusal::Unreadable { site: from.clone(), error };
    let leaf = read_chain(chain_pem.as_bytes()).map_err(unreadable)?.remove(0);
    match uncovered(&leaf.names, &site.hostnames).first() {
        Some(name) => Err(CertificateRefusal::NotCovered { from: from.clone(), name: (*name).clone() }),
        None => Ok(()),
    }
}

#[cfg(test)]
#[path = "acquire_tests.rs"]
mod tests;

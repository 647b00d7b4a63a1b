//! The changes on the way of many sites: what has arrived is installed, and what handshakes have shown is settled, by one
//! change with one reload.

use jiff::Timestamp;

use super::{Arrived, Course, Shown, Stage};
use crate::certificate::{
    Certificate, CertificateDetails, CertificateRefusal, CertificateSource, CertificateState, Install, Waiting,
    force_https, install, read_chain, uncovered,
};
use crate::change::{ExistingFile, InventoryChange, Plan};
use crate::harbor::{Layout, Settings};
use crate::site::Site;

/// A site as it is when something is changed: others may have changed it since it was looked at.
#[derive(Debug, Clone)]
pub struct Readied {
    pub site: Site,
    pub site_file: ExistingFile,
    pub waiting: Option<Waiting>,
}

/// For the logbook.
pub fn title(courses: &[&Course]) -> String {
    let arrived = courses.iter().filter(|course| matches!(course.stage, Stage::Arrived(_))).count();
    match (courses, arrived) {
        ([only], 1) => format!("certificate issue {}", only.site.main()),
        ([only], _) => format!("certificate of {} is served", only.site.main()),
        (several, 0) => format!("certificates of {} sites are served", several.len()),
        (several, all) if all == several.len() => format!("certificate issue for {all} sites"),
        (several, some) => {
            format!("certificate issue for {some} sites; those of {} are served", several.len() - some)
        }
    }
}

/// Decides that what has arrived is installed. What does not cover a name that was ordered is not.
pub fn install_arrived(
    arrived: &Arrived,
    readied: &Readied,
    settings: &Settings,
    layout: &Layout,
    now: Timestamp,
) -> Result<Plan, CertificateRefusal> {
    let site = &readied.site;
    let unreadable = |error| CertificateRefusal::Unreadable { site: site.main().clone(), error };
    let chain = read_chain(arrived.issued.chain_pem.as_bytes()).map_err(unreadable)?;
    if let Some(name) = uncovered(&chain[0].names, &arrived.names).first() {
        return Err(CertificateRefusal::OrderedNotCovered { name: (*name).clone() });
    }
    let staple = arrived.issued.staple.as_deref();
    if chain[0].must_staple && staple.is_none() {
        let (site, reason) = (site.main().clone(), "nobody has asked for it".into());
        return Err(CertificateRefusal::NoStaple { site, reason });
    }
    let wish = &site.rules.certificate;
    let shared = wish.from.is_some();
    let stepped_in = !shared && arrived.ca != wish.ca;
    let wanted = Install {
        chain_pem: &arrived.issued.chain_pem,
        key_pem: &arrived.issued.key_pem,
        names: arrived.names.clone(),
        not_before: chain[0].not_before,
        not_after: chain[0].not_after,
        now,
        source: if shared { CertificateSource::Shared } else { CertificateSource::Ca },
        details: CertificateDetails {
            ca: arrived.ca.clone(),
            in_place_of: stepped_in.then(|| wish.ca_word().to_string()),
            wildcards: arrived.wildcards.clone(),
            instead_of_profile: wish
                .profile
                .clone()
                .filter(|_| !shared && !stepped_in && arrived.profile != wish.profile),
            profile: arrived.profile.clone(),
            stapled: arrived.stapled,
            unstapled: wish.stapled && !shared && !arrived.stapled,
        },
        staple,
    };
    let mut plan = Plan::new(format!("certificate issue {}", site.main()));
    install(&mut plan, site, &wanted, readied.site_file.clone(), settings, layout);
    Ok(plan)
}

/// Decides what follows handshakes: http is sent to https for the hosts that they have shown it for, and the site waits no
/// more. Names that were left out have pauses of their own.
pub fn settle_verified(
    certificate: &Certificate,
    shown: &Shown,
    readied: &Readied,
    settings: &Settings,
    layout: &Layout,
) -> Plan {
    let Readied { site, site_file, waiting } = readied;
    // A stop-gap ends no wait for the certificate that it stands in for.
    let is_stop_gap = certificate.source == CertificateSource::SelfSigned;
    let mut plan = Plan::new(format!("certificate of {} is served", site.main()));
    let after = force_https(&mut plan, site, (certificate, shown), site_file.clone(), settings, layout);
    let ends_wait = !is_stop_gap && waiting.is_some();
    if ends_wait {
        plan.set.inventory(InventoryChange::EndWait { site: site.main().clone() });
    }
    let nothing_new = after == *site && (certificate.state == CertificateState::Served || !shown.others.is_empty());
    if nothing_new && !ends_wait { Plan::new(plan.set.title) } else { plan }
}

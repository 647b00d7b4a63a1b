//! Where the pages of an attached hostname come from: a folder of its own, another site, or nowhere here.
//!
//! `attach` decides zone, file and inventory around it; `served_elsewhere` is for names that somebody else serves.

use std::path::{Path, PathBuf};

use jiff::Timestamp;

use super::attach::{AttachLoaded, AttachRequest, Attachment, ServedFrom};
use super::attach_zone::decide_zone;
use super::change::{root_folder, wanted_content};
use super::{HttpsStates, Site, SiteKind, SiteRefusal, SiteRemark, SiteRules};
use crate::account::Account;
use crate::change::Plan;
use crate::harbor::{Layout, Settings, check_path};
use crate::name::{Host, Hostname};
use crate::zone::ZoneDesign;

/// A domain whose names others serve: its zone, without addresses.
pub(super) fn only_the_zone(
    request: &AttachRequest,
    domain: &Hostname,
    account: &Account,
    loaded: &AttachLoaded,
    settings: &Settings,
    layout: &Layout,
    now: Timestamp,
) -> Result<Attachment, SiteRefusal> {
    if loaded.zone.is_some() || request.hostname != *domain {
        return Err(SiteRefusal::NothingToServe(request.hostname.clone()));
    }
    let site = Site {
        account: account.name.clone(),
        hostnames: vec![domain.into()],
        document_root: account.home.clone(),
        kind: SiteKind::AddonDomain,
        https: HttpsStates::default(),
        certificate: None,
        rules: SiteRules::default(),
    };
    let mut plan = Plan::new(format!("attach {domain} --no-site"));
    plan.remark(SiteRemark::ZoneOnly { hostname: domain.into() });
    let mut decision = Attachment { hosts: site.hostnames.clone(), plan, site };
    let design = ZoneDesign { without_addresses: true, ..request.design.clone() };
    decide_zone(&AttachRequest { design, ..request.clone() }, domain, loaded, settings, layout, now, &mut decision)?;
    Ok(decision)
}

/// A site of its own, with a folder.
pub(super) fn with_own_root(
    request: &AttachRequest,
    account: &Account,
    hostnames: Vec<Host>,
    is_domain: bool,
    loaded: &AttachLoaded,
    settings: &Settings,
    layout: &Layout,
) -> Result<Attachment, SiteRefusal> {
    let main = hostnames[0].clone();
    let (given, existing) = match &request.place {
        ServedFrom::OwnRoot { given, existing } => (given.as_deref(), *existing),
        _ => (None, false),
    };
    let document_root = document_root(given, &settings.sites.document_root, account, &main)?;
    if given.is_some() && loaded.root_is_there && !existing {
        return Err(SiteRefusal::RootIsThere(document_root));
    }
    let kind = match (main.address(), is_domain) {
        (Some(_), _) => SiteKind::ByAddress,
        (None, true) => SiteKind::AddonDomain,
        (None, false) => SiteKind::Subdomain,
    };
    let mut rules = SiteRules { www: request.www.unwrap_or_default(), ..SiteRules::default() };
    rules.content.own = loaded.own.clone();
    let mut site = Site {
        account: account.name.clone(),
        hostnames,
        document_root,
        kind,
        https: HttpsStates::default(),
        certificate: None,
        rules,
    };
    let mut plan = Plan::new(format!("attach {main} --account {}", account.name));
    plan.remark(SiteRemark::Attached {
        hostname: main,
        kind,
        account: account.name.clone(),
        twin: site.hostnames.get(1).cloned(),
        document_root: site.document_root.clone(),
    });
    if loaded.own.is_some() {
        let path = layout.own_directives(settings.web.server, site.main());
        plan.remark(SiteRemark::OwnDirectives { site: site.main().clone(), path, gone: false });
    }
    if let Some(with) = loaded.shares_root.clone() {
        plan.remark(SiteRemark::SharesRoot { document_root: site.document_root.clone(), with });
    }
    if !request.content.is_empty() {
        *site.rules.content = wanted_content(&request.content, &site, Some(account), &mut plan, settings)?;
    }
    if loaded.root_is_open && site.rules.content.php_versions().next().is_some() {
        let (document_root, group) = (site.document_root.clone(), settings.web.group_or_usual().to_string());
        plan.remark(SiteRemark::RootIsOpen { document_root, group });
    }
    plan.change(root_folder(&site.document_root, account, &site, settings, layout));
    Ok(Attachment { hosts: site.hostnames.clone(), plan, site })
}

/// An alias domain: more names for a site that is there.
pub(super) fn alias_domain(
    other: &Host,
    hostnames: Vec<Host>,
    loaded: &AttachLoaded,
    settings: &Settings,
    layout: &Layout,
) -> Result<Attachment, SiteRefusal> {
    let (before, file) = loaded.joined.clone().ok_or_else(|| SiteRefusal::NotAttached(other.clone()))?;
    let main = hostnames[0].clone();
    let mut site = before.clone();
    site.hostnames.extend(hostnames.iter().cloned());
    let mut plan = Plan::new(format!("attach {main} --same-as {other}"));
    super::change_site(&mut plan, &before, &site, file, settings, layout);
    let twin = hostnames.get(1).cloned();
    plan.remark(SiteRemark::AliasDomain { hostname: main, twin, site: before.main().clone() });
    Ok(Attachment { plan, hosts: hostnames, site })
}

/// The document root as given, or as the settings compute it; always inside the home.
pub fn document_root(
    given: Option<&Path>,
    pattern: &str,
    account: &Account,
    hostname: &Host,
) -> Result<PathBuf, SiteRefusal> {
    let path = match given {
        // An absolute path stays as it is.
        Some(given) => account.home.join(given),
        None => PathBuf::from(
            pattern
                .replace("{home}", &account.home.to_string_lossy())
                .replace("{account}", account.name.as_str())
                .replace("{hostname}", &folder_name(hostname)),
        ),
    };
    check_path(&path)?;
    if path == account.home || !path.starts_with(&account.home) {
        return Err(SiteRefusal::OutsideHome { document_root: path, home: account.home.clone() });
    }
    Ok(path)
}

/// A hostname as a folder is named by it; the colons and brackets of an address are not for folders.
fn folder_name(hostname: &Host) -> String {
    match hostname.address() {
        Some(address) => address.to_string().replace(':', "-"),
        None => hostname.to_string(),
    }
}

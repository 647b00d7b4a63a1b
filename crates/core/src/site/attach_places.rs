//! Where the pages of an attached hostname come from: a folder of its own, another site, or nowhere here.
//!
//! `attach` decides zone, file and inventory around it; `served_elsewhere` is for names that somebody else serves.

use std::path::{Path, PathBuf};

use jiff::Timestamp;

use super::attach::{AttachLoaded, AttachRefused, AttachRequest, Attachment, ServedFrom, decide_zone};
use super::{HttpsState, Site, SiteKind, SiteRules};
use crate::account::Account;
use crate::change::{Change, ChangeSet, FolderMake};
use crate::harbor::{Layout, Settings, check_path};
use crate::name::Hostname;
use crate::render;

/// A domain whose names others serve: its zone, without addresses.
pub(super) fn only_the_zone(
    request: &AttachRequest,
    domain: &Hostname,
    account: &Account,
    loaded: &AttachLoaded,
    settings: &Settings,
    layout: &Layout,
    now: Timestamp,
) -> Result<Attachment, AttachRefused> {
    if loaded.zone.is_some() || request.hostname != *domain {
        return Err(AttachRefused::NothingToServe(request.hostname.clone()));
    }
    let site = Site {
        account: account.name.clone(),
        hostnames: vec![domain.clone()],
        document_root: account.home.clone(),
        kind: SiteKind::AddonDomain,
        https: HttpsState::None,
        certificate: None,
        rules: SiteRules::default(),
    };
    let title = format!("attach {domain} --no-site");
    let said = vec![format!("{domain} is kept here and served elsewhere: add its records, or attach it later")];
    let mut decision = Attachment { change_set: ChangeSet::new(title), said, site };
    let mut without = settings.clone();
    without.host.addresses.clear();
    decide_zone(request, domain, loaded, &without, layout, now, &mut decision)?;
    Ok(decision)
}

/// A site of its own, with a folder.
pub(super) fn with_own_root(
    request: &AttachRequest,
    account: &Account,
    hostnames: Vec<Hostname>,
    is_domain: bool,
    loaded: &AttachLoaded,
    settings: &Settings,
    layout: &Layout,
) -> Result<Attachment, AttachRefused> {
    let main = hostnames[0].clone();
    let (given, existing) = match &request.place {
        ServedFrom::OwnRoot { given, existing } => (given.as_deref(), *existing),
        _ => (None, false),
    };
    let document_root = document_root(given, &settings.sites.document_root, account, &main)?;
    if given.is_some() && loaded.root_is_there && !existing {
        return Err(AttachRefused::RootIsThere(document_root));
    }
    let kind = match (main.address(), is_domain) {
        (Some(_), _) => SiteKind::ByAddress,
        (None, true) => SiteKind::AddonDomain,
        (None, false) => SiteKind::Subdomain,
    };
    let rules = SiteRules { www: request.www.unwrap_or_default(), ..SiteRules::default() };
    let site = Site {
        account: account.name.clone(),
        hostnames,
        document_root,
        kind,
        https: HttpsState::None,
        certificate: None,
        rules,
    };
    let mut said = vec![describe(&request.hostname, &site)];
    if let Some(other) = &loaded.shares_root {
        said.push(format!("its document root and that of {other} lie in one another: each shows pages of the other"));
    }
    let mut change_set = ChangeSet::new(format!("attach {main} --account {}", account.name));
    let below = site.document_root.strip_prefix(&account.home).expect("checked by document_root").to_path_buf();
    change_set.changes.push(Change::MakeFolder(FolderMake {
        home: account.home.clone(),
        below,
        system_user: account.system_user.clone(),
        mode: 0o755,
        starter_page: Some(render::starter_page(&main)),
        starter_files: layout.starter_files(&account.name),
    }));
    Ok(Attachment { change_set, said, site })
}

/// A parked domain: more names for a site that is there.
pub(super) fn parked(
    other: &Hostname,
    hostnames: Vec<Hostname>,
    loaded: &AttachLoaded,
    settings: &Settings,
    layout: &Layout,
) -> Result<Attachment, AttachRefused> {
    let (before, file) = loaded.joined.clone().ok_or_else(|| AttachRefused::NotAttached(other.clone()))?;
    let main = hostnames[0].clone();
    let mut site = before.clone();
    site.hostnames.extend(hostnames.iter().cloned());
    // The certificate does not cover the new names yet: they must not be sent to a warning page.
    if site.https == HttpsState::Forced {
        site.https = HttpsState::Offered;
    }
    let mut change_set = ChangeSet::new(format!("attach {main} --same-as {other}"));
    super::change_site(&mut change_set, &before, &site, file, settings, layout);
    let twin = hostnames.get(1).map(|twin| format!(" with {twin}")).unwrap_or_default();
    let said = vec![format!("{main} is attached as parked domain{twin}: it shows the site {}", before.main())];
    Ok(Attachment { site, change_set, said })
}

/// The document root as given, or as the settings compute it; always inside the home.
pub fn document_root(
    given: Option<&Path>,
    pattern: &str,
    account: &Account,
    hostname: &Hostname,
) -> Result<PathBuf, AttachRefused> {
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
        return Err(AttachRefused::OutsideHome { document_root: path, home: account.home.clone() });
    }
    Ok(path)
}

/// A hostname as a folder is named by it; the colons and brackets of an address are not for folders.
fn folder_name(hostname: &Hostname) -> String {
    match hostname.address() {
        Some(address) => address.to_string().replace(':', "-"),
        None => hostname.to_string(),
    }
}

fn describe(typed: &Hostname, site: &Site) -> String {
    let twin = match site.hostnames.get(1) {
        Some(twin) if twin == typed => format!(" together with {twin}, as asked"),
        Some(twin) => format!(" with {twin}"),
        None => String::new(),
    };
    format!(
        "{} is attached as {} to {}{twin}, served from {}",
        site.main(),
        site.kind.words(),
        site.account,
        site.document_root.display()
    )
}

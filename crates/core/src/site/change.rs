//! The decision to change how a site is served; and what every change of a site comes down to: its file written anew,
//! and the inventory beside it.

use std::path::PathBuf;

use jiff::civil::Date;

use super::attach::ZoneLoaded;
use super::attach_beside::ask_for_answered;
use super::attach_zone::add_addresses;
use super::{
    AnsweredBefore, ByHand, Content, ContentWish, HttpsPolicy, HttpsState, Overridable, Part, Site, SiteRefusal,
    SiteRemark, TlsFloor, WwwPolicy, document_root,
};
use crate::account::Account;
use crate::certificate::{Certificate, CertificateSource, CertificateState};
use crate::change::{Change, Consent, ExistingFile, FileWrite, FolderMake, InventoryChange, Plan, Purpose, Remark};
use crate::harbor::{Layout, Settings, WebServer};
use crate::name::Host;
use crate::render;

/// What was asked for.
#[derive(Debug, Clone, Default)]
pub struct ChangeSite {
    /// Relative to the account's home, or absolute inside it.
    pub document_root: Option<PathBuf>,
    /// Whether that folder may be there already.
    pub existing: bool,
    pub www: Option<WwwPolicy>,
    pub https: Option<HttpsPolicy>,
    pub tls: Option<TlsFloor>,
    /// Seconds; the inner `None` turns it off (RFC 6797).
    pub hsts: Option<Option<u32>>,
    pub content: ContentWish,
}

impl ChangeSite {
    /// Whether nothing is to be otherwise; `existing` alone says nothing.
    pub fn is_empty(&self) -> bool {
        let Self { document_root, existing: _, www, https, tls, hsts, content } = self;
        document_root.is_none()
            && www.is_none()
            && https.is_none()
            && tls.is_none()
            && hsts.is_none()
            && content.is_empty()
    }
}

/// What the decision rests on.
#[derive(Debug, Clone)]
pub struct ChangeSiteLoaded {
    pub site: Site,
    pub site_file: ExistingFile,
    pub account: Option<Account>,
    pub certificate: Option<Certificate>,
    /// Whether something is where the wanted document root would be.
    pub root_is_there: bool,
    /// The hash of the site's own directives, as they are now.
    pub own: Option<String>,
    /// Whether every user of this machine can read the document root.
    pub root_is_open: bool,
    /// The twin of the main name, where it is wanted and not among the site's names.
    pub twin: Option<TwinLoaded>,
}

/// A twin that comes back.
#[derive(Debug, Clone)]
pub struct TwinLoaded {
    pub host: Host,
    /// The site that has the name by now.
    pub taken: Option<Site>,
    /// Where the web server's own configuration serves it.
    pub by_hand: Option<ByHand>,
    /// Where that server answers for it already, whatever its files say.
    pub answered: Option<AnsweredBefore>,
    pub zone: Option<ZoneLoaded>,
}

/// The twin that a wish for the site's names brings back: the other one of its main name and that with `www.`.
pub fn missing_twin(request: &ChangeSite, site: &Site) -> Option<Host> {
    request.www.filter(|policy| *policy != WwwPolicy::None)?;
    let twin = site.main().without_www().or_else(|| site.main().with_www())?;
    (!site.hostnames.contains(&twin)).then_some(twin)
}

/// Decides the change. A file that is not as it was written is written again, whatever else changes.
pub fn decide_change(
    request: &ChangeSite,
    loaded: &ChangeSiteLoaded,
    settings: &Settings,
    layout: &Layout,
    today: Date,
) -> Result<Plan, SiteRefusal> {
    let before = &loaded.site;
    let main = || before.main().clone();
    let mut plan = Plan::new(format!("site change {}", before.main()));
    let mut after = before.clone();
    if let Some(given) = &request.document_root {
        let account = loaded.account.as_ref().ok_or_else(|| SiteRefusal::UnknownAccount(before.account.clone()))?;
        let root = document_root(Some(given), "", account, before.main())?;
        if !request.existing && root != before.document_root && loaded.root_is_there {
            return Err(SiteRefusal::RootIsThere(root));
        }
        if root != before.document_root {
            plan.change(root_folder(&root, account, before, settings, layout));
            let (before, after) = (before.document_root.clone(), root.clone());
            plan.remark(SiteRemark::DocumentRoot { site: main(), before, after });
        }
        after.document_root = root;
    }
    if let Some(policy) = request.www {
        if let Some(twin) = &loaded.twin {
            bring_back(twin, &mut after, settings, today, &mut plan)?;
        }
        after.rules.www = policy;
        plan.remark(SiteRemark::Www { site: main(), policy });
    }
    if let Some(policy) = request.https {
        after.rules.https_policy = policy;
        match policy {
            HttpsPolicy::Forced => {
                let proven = |one: &&Certificate| {
                    one.state == CertificateState::Served && one.source != CertificateSource::SelfSigned
                };
                let proven = loaded.certificate.as_ref().filter(proven);
                let covers = |host: &&Host| proven.is_some_and(|one| one.covers(host));
                let (covered, later): (Vec<&Host>, Vec<&Host>) = before.hostnames.iter().partition(covers);
                covered.into_iter().for_each(|host| after.https.set(host, HttpsState::Forced));
                let later = later.into_iter().cloned().collect();
                plan.remark(SiteRemark::HttpsForced { site: main(), later });
            }
            HttpsPolicy::Offered => {
                for host in before.hostnames.iter().filter(|host| before.is_forced(host)) {
                    after.https.set(host, HttpsState::Offered);
                }
                plan.remark(SiteRemark::HttpsOffered { site: main() });
            }
        }
    }
    if let Some(floor) = request.tls {
        after.rules.tls = floor;
        plan.remark(SiteRemark::Tls { site: main(), only_13: floor == TlsFloor::Tls13 });
    }
    if let Some(seconds) = request.hsts {
        after.rules.hsts = seconds;
        if seconds.is_some() && !after.is_forced(after.main()) {
            return Err(SiteRefusal::HstsWithoutHttps(main()));
        }
        plan.remark(SiteRemark::Hsts { site: main(), seconds });
    }
    if !request.content.is_empty() {
        *after.rules.content = wanted_content(&request.content, before, loaded.account.as_ref(), &mut plan, settings)?;
    }
    if loaded.own != before.rules.content.own {
        after.rules.content.own = loaded.own.clone();
        plan.remark(SiteRemark::OwnDirectives {
            site: main(),
            path: layout.own_directives(settings.web.server, before.main()),
            gone: loaded.own.is_none(),
        });
    }
    let starts_php = |site: &Site| site.rules.content.php_versions().next().is_some();
    if loaded.root_is_open && starts_php(&after) && !starts_php(before) {
        let (document_root, group) = (after.document_root.clone(), settings.web.group_or_usual().to_string());
        plan.remark(SiteRemark::RootIsOpen { document_root, group });
    }
    let written = render::site_file(before, settings, layout);
    let is_as_written = match (&loaded.site_file, &written) {
        (Some(file), Some(_)) => render::is_as_written(file),
        (None, Some(_)) => false,
        (_, None) => true,
    };
    if !is_as_written {
        let path = layout.site_file(settings.web.server, before.main());
        plan.remark(SiteRemark::FileWrittenAgain { site: main(), path });
    }
    if after == *before && is_as_written {
        plan.remarks = vec![Remark::Unchanged];
        return Ok(plan);
    }
    change_site(&mut plan, before, &after, loaded.site_file.clone(), settings, layout);
    Ok(plan)
}

/// What is to answer at the paths of a site.
pub(super) fn wanted_content(
    wish: &ContentWish,
    site: &Site,
    account: Option<&Account>,
    plan: &mut Plan,
    settings: &Settings,
) -> Result<Content, SiteRefusal> {
    let (before, after) = (&site.rules.content, wish.applied_to(&site.rules.content));
    if let Some(version) = after.php_versions().find(|version| !settings.php.contains_key(*version)) {
        let known = settings.php.keys().cloned().collect();
        return Err(SiteRefusal::UnknownPhp { version: version.to_string(), known });
    }
    if after.php_versions().next().is_some() && account.is_none_or(|account| account.system_user.is_none()) {
        return Err(SiteRefusal::PhpWithoutUser(site.account.clone()));
    }
    if let Some((path, _)) =
        wish.parts.iter().find(|(path, by)| by.is_none() && !before.parts.iter().any(|part| part.path == *path))
    {
        return Err(SiteRefusal::NoSuchPart { site: site.main().clone(), path: path.clone() });
    }
    if after.htaccess.iter().any(|group| !before.htaccess.contains(group)) && settings.web.server != WebServer::Apache {
        return Err(SiteRefusal::NoHtaccess(site.main().clone()));
    }
    let mut with_it = site.clone();
    *with_it.rules.content = after.clone();
    ask_for_htaccess(before, &with_it, plan);
    if after.parts != before.parts {
        let parts =
            after.all_parts().into_iter().map(|(path, by)| Part { path: path.into(), by: by.clone() }).collect();
        plan.remark(SiteRemark::Parts { site: site.main().clone(), parts });
    }
    if (Content { parts: vec![], ..after.clone() }) != (Content { parts: vec![], ..Content::clone(before) }) {
        plan.remark(SiteRemark::ContentOptions { site: site.main().clone(), content: Box::new(after.clone()) });
    }
    Ok(after)
}

/// Groups of directives that files of the account's own may set from now on need a consent.
pub(crate) fn ask_for_htaccess(before: &Content, after: &Site, plan: &mut Plan) {
    let allowed = |group: &&Overridable| !before.htaccess.contains(group);
    let groups: Vec<Overridable> = after.rules.content.htaccess.iter().filter(allowed).copied().collect();
    if !groups.is_empty() {
        let (site, account) = (after.main().clone(), after.account.clone());
        plan.needs_consent(Consent::TrustsHtaccess { site, account, groups });
    }
}

/// A twin is served again, with its record where the zone is kept here.
fn bring_back(
    twin: &TwinLoaded,
    after: &mut Site,
    settings: &Settings,
    today: Date,
    plan: &mut Plan,
) -> Result<(), SiteRefusal> {
    if let Some(site) = &twin.taken {
        return Err(SiteRefusal::AlreadyAttached {
            hostname: twin.host.clone(),
            kind: site.kind,
            account: site.account.clone(),
            document_root: site.document_root.clone(),
        });
    }
    if let Some(found) = &twin.by_hand {
        return Err(SiteRefusal::ByHand(found.clone()));
    }
    ask_for_answered(twin.answered.as_ref(), plan);
    after.hostnames.insert(1, twin.host.clone());
    plan.remark(SiteRemark::TwinBack { site: after.main().clone(), twin: twin.host.clone() });
    match &twin.zone {
        Some(ZoneLoaded::Kept(kept)) => {
            add_addresses(kept, (std::slice::from_ref(&twin.host), after.main().name()), settings, today, plan)
        }
        Some(ZoneLoaded::Elsewhere(_)) | None => Ok(()),
    }
}

/// The folder of a document root inside the account's home, with a page if it is empty.
pub(super) fn root_folder(
    root: &std::path::Path,
    account: &Account,
    site: &Site,
    settings: &Settings,
    layout: &Layout,
) -> Change {
    // With a group of its own the web server needs nobody else to read the pages; programs of others are somebody else.
    let group = root_group(account, site, settings);
    Change::MakeFolder(FolderMake {
        home: account.home.clone(),
        // Checked by `document_root`: it lies inside the home.
        below: root.strip_prefix(&account.home).unwrap_or(root).to_path_buf(),
        system_user: account.system_user.clone(),
        mode: if group.is_some() { 0o750 } else { 0o755 },
        group,
        early: false,
        starter_page: Some(render::starter_page(site.main())),
        starter_files: layout.starter_files(&account.name),
    })
}

/// The group that a document root is for, beside its account: where the settings name it, or scripts of the account run.
pub(super) fn root_group(account: &Account, site: &Site, settings: &Settings) -> Option<String> {
    let runs_php = site.rules.content.php_versions().next().is_some();
    let group = settings.web.group.as_deref().or(runs_php.then(|| settings.web.group_or_usual()));
    group.filter(|_| account.system_user.is_some()).map(String::from)
}

/// Adds to the plan what makes `before` serve as `after`. `site_file` is the file as it was read; it is left alone if
/// nothing in it changes, so that no server reads it again for nothing. A hand-made edit of it needs a consent.
pub fn change_site(
    plan: &mut Plan,
    before: &Site,
    after: &Site,
    site_file: ExistingFile,
    settings: &Settings,
    layout: &Layout,
) {
    if let Some(text) = render::site_file(after, settings, layout) {
        let path = layout.site_file(settings.web.server, after.main());
        let pending = plan.set.pending(&path).or(site_file.as_deref());
        if pending != Some(text.as_bytes()) {
            ask_for_hand_edit(plan, before, site_file.as_deref(), settings, layout);
            plan.set.file(FileWrite::new(path, site_file, text, 0o644, Purpose::SiteFile));
        }
    }
    plan.set.inventory(InventoryChange::ReplaceSite { before: before.clone(), after: after.clone() });
}

/// Asks for the consent to replace what somebody has edited by hand in the file of a site, if somebody has; a copy is kept.
pub fn ask_for_hand_edit(plan: &mut Plan, site: &Site, file: Option<&[u8]>, settings: &Settings, layout: &Layout) {
    let Some((edit, found)) = hand_edit(site, file, settings, layout).zip(file) else { return };
    if !plan.consents.contains(&edit) {
        plan.needs_consent(edit);
        let copy = layout.removed_site_file(site.main(), found);
        plan.set.file(FileWrite::new(copy.clone(), None, found, 0o600, Purpose::Copy));
        plan.remark(SiteRemark::EditKept { site: site.main().clone(), copy });
    }
}

/// The hand-made edit of a site's file, if there is one.
pub fn hand_edit(site: &Site, file: Option<&[u8]>, settings: &Settings, layout: &Layout) -> Option<Consent> {
    let found = file.filter(|file| !render::is_as_written(file))?;
    Some(Consent::ReplacesHandEdit {
        site: site.main().clone(),
        path: layout.site_file(settings.web.server, site.main()),
        written: render::site_file(site, settings, layout).unwrap_or_default(),
        found: String::from_utf8_lossy(found).into_owned(),
    })
}

#[cfg(test)]
#[path = "change_tests.rs"]
mod tests;

//! The decision what goes along with a change of sites: the file for visitors who ask for a host that nobody has here.
//!
//! Pure, like every decision; `render` writes the file.

use crate::change::{Change, ChangeSet, ExistingFile, FileRemoval, FileWrite, InventoryChange, Purpose};
use crate::harbor::{Layout, Settings, WebServer};
use crate::name::Host;
use crate::render;
use crate::site::Site;

/// What is there.
#[derive(Debug, Clone, Default)]
pub struct UnknownHostsLoaded {
    pub file: ExistingFile,
    /// A key and a certificate for it, which only Apache httpd wants.
    pub pair: ExistingFile,
    /// The same, freshly made, if there is none.
    pub fresh_pair: Option<String>,
    /// Whether the server can refuse a handshake.
    pub can_refuse: bool,
    /// Whether there are sites that the change does not touch.
    pub others: bool,
    /// Whether one of those has a certificate.
    pub secured_others: bool,
}

/// Whether a change has to do with it at all.
pub fn concerns_unknown_hosts(set: &ChangeSet) -> bool {
    set.changes.iter().any(|change| match change {
        Change::WriteFile(write) => write.purpose == Purpose::SiteFile,
        Change::RemoveFile(removal) => removal.purpose == Purpose::SiteFile,
        _ => false,
    })
}

/// The sites that a change takes away or gives another form.
pub fn touched_sites(set: &ChangeSet) -> Vec<&Host> {
    let touched = set.inventory_changes().filter_map(|change| match change {
        InventoryChange::ReplaceSite { before: site, .. } | InventoryChange::RemoveSite(site) => Some(site.main()),
        _ => None,
    });
    touched.collect()
}

/// The sites that a change makes, or gives another form, as they will be.
fn coming(set: &ChangeSet) -> impl Iterator<Item = &Site> {
    set.inventory_changes().filter_map(|change| match change {
        InventoryChange::AddSite(site) | InventoryChange::ReplaceSite { after: site, .. } => Some(site),
        _ => None,
    })
}

/// Whether one of the sites will be served over https.
pub fn is_https_served(set: &ChangeSet, secured_others: bool) -> bool {
    secured_others || coming(set).any(|site| site.certificate.is_some())
}

/// Adds to a change of sites what it means for unknown hosts: the file is made with the first site, answers https from the
/// first certificate on, and goes with the last site. What somebody has edited in it stays.
pub fn with_unknown_hosts(set: &mut ChangeSet, loaded: UnknownHostsLoaded, settings: &Settings, layout: &Layout) {
    let server = settings.web.server;
    let (path, pair_path) = (layout.unknown_hosts(server), layout.unknown_hosts_pair(server));
    if loaded.file.as_deref().is_some_and(|file| !render::is_as_written(file)) {
        return;
    }
    if !loaded.others && coming(set).next().is_none() {
        let removals = [(path, loaded.file, 0o644, Purpose::SiteFile), (pair_path, loaded.pair, 0o600, Purpose::Key)];
        for (path, present, mode, purpose) in removals {
            if let Some(before) = present {
                set.changes.push(Change::RemoveFile(FileRemoval::new(path, before, mode, purpose)));
            }
        }
        return;
    }
    let https = is_https_served(set, loaded.secured_others);
    let wants_pair = https && server == WebServer::Apache;
    let has_pair = !wants_pair || loaded.pair.is_some() || loaded.fresh_pair.is_some();
    let refusing = (https && loaded.can_refuse && has_pair).then_some(pair_path.as_path());
    let Some(text) = render::unknown_hosts(settings, refusing) else { return };
    if let (true, None, Some(fresh)) = (wants_pair, &loaded.pair, loaded.fresh_pair) {
        set.file(FileWrite::new(pair_path, None, fresh, 0o600, Purpose::Key));
    }
    if loaded.file.as_deref() != Some(text.as_bytes()) {
        set.file(FileWrite::new(path, loaded.file, text, 0o644, Purpose::SiteFile));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::AccountName;
    use crate::site::{HttpsState, HttpsStates, SiteKind, SiteRules};

    fn gullrock() -> Site {
        let hostnames = vec![Host::parse("gullrock.example").unwrap()];
        Site {
            account: AccountName::parse("boatyard").unwrap(),
            https: HttpsStates::all(&hostnames, HttpsState::None),
            hostnames,
            document_root: "/home/boatyard/www".into(),
            kind: SiteKind::AddonDomain,
            certificate: None,
            rules: SiteRules::default(),
        }
    }

    fn set(changes: Vec<InventoryChange>) -> ChangeSet {
        let mut set = ChangeSet::new("test");
        changes.into_iter().for_each(|change| set.inventory(change));
        set
    }

    fn settings(server: WebServer) -> Settings {
        let mut settings = Settings::default();
        settings.web.server = server;
        settings
    }

    /// The further changes, by the ends of their names.
    fn along(server: WebServer, changes: Vec<InventoryChange>, loaded: UnknownHostsLoaded) -> Vec<String> {
        let mut set = set(changes);
        let before = set.changes.len();
        with_unknown_hosts(&mut set, loaded, &settings(server), &Layout::new("/harbor"));
        let line = |change: &Change| change.line().replace("/harbor/servers/", "");
        set.changes[before..].iter().map(line).collect()
    }

    fn present(server: WebServer, https: bool) -> ExistingFile {
        let pair = Layout::new("/harbor").unknown_hosts_pair(server);
        render::unknown_hosts(&settings(server), https.then_some(pair.as_path())).map(String::into_bytes)
    }

    #[test]
    fn only_files_of_sites_concern_it() {
        let concerns = |purpose: Purpose, removed: bool| {
            let mut all = set(vec![]);
            match removed {
                true => all.changes.push(Change::RemoveFile(FileRemoval::new("/f".into(), vec![], 0o644, purpose))),
                false => all.file(FileWrite::new("/f".into(), None, "", 0o644, purpose)),
            }
            concerns_unknown_hosts(&all)
        };
        assert!(concerns(Purpose::SiteFile, false) && concerns(Purpose::SiteFile, true));
        assert!(!concerns(Purpose::Key, false) && !concerns(Purpose::Key, true));
        assert!(!concerns_unknown_hosts(&set(vec![InventoryChange::AddSite(gullrock())])));
    }

    #[test]
    fn it_comes_with_the_first_site_and_goes_with_the_last() {
        let (site, nginx) = (gullrock(), WebServer::Nginx);
        let add = || vec![InventoryChange::AddSite(site.clone())];
        let written = ["write nginx/+~unknown-hosts.conf (644)"];
        assert_eq!(along(nginx, add(), UnknownHostsLoaded::default()), written);
        let there = || UnknownHostsLoaded { file: present(nginx, false), ..Default::default() };
        assert!(along(nginx, add(), there()).is_empty());
        let remove = || vec![InventoryChange::RemoveSite(site.clone())];
        assert_eq!(along(nginx, remove(), there()), ["remove nginx/+~unknown-hosts.conf"]);
        assert!(along(nginx, remove(), UnknownHostsLoaded { others: true, ..there() }).is_empty());
        let edited = || UnknownHostsLoaded { file: Some(b"# ours".to_vec()), ..there() };
        assert!(along(nginx, add(), edited()).is_empty() && along(nginx, remove(), edited()).is_empty());
        assert!(along(WebServer::None, add(), UnknownHostsLoaded::default()).is_empty());
    }

    #[test]
    fn https_is_answered_from_the_first_certificate_on() {
        let before = gullrock();
        let mut after = before.clone();
        after.certificate = Some(crate::certificate::CertificateFiles { folder: "/harbor/certificates/x".into() });
        let secured = || vec![InventoryChange::ReplaceSite { before: before.clone(), after: after.clone() }];
        let loaded = |server, https| UnknownHostsLoaded {
            file: present(server, https),
            fresh_pair: Some("PAIR".into()),
            can_refuse: true,
            ..Default::default()
        };
        let (nginx, apache) = (WebServer::Nginx, WebServer::Apache);
        assert_eq!(along(nginx, secured(), loaded(nginx, false)), ["change nginx/+~unknown-hosts.conf (644)"]);
        let both = ["write apache/+~unknown-hosts.pem (600)", "change apache/+~unknown-hosts.conf (644)"];
        assert_eq!(along(apache, secured(), loaded(apache, false)), both);
        // A server that cannot refuse, and an Apache httpd without a key, are left as they are.
        let old = UnknownHostsLoaded { can_refuse: false, ..loaded(nginx, false) };
        assert!(along(nginx, secured(), old).is_empty());
        let keyless = UnknownHostsLoaded { fresh_pair: None, ..loaded(apache, false) };
        assert!(along(apache, secured(), keyless).is_empty());
        // It is answered as long as one site has a certificate, whichever the change is about.
        let more = || vec![InventoryChange::AddSite(before.clone())];
        let others = |https| UnknownHostsLoaded { others: true, secured_others: true, ..loaded(nginx, https) };
        assert!(along(nginx, more(), others(true)).is_empty());
        assert_eq!(along(nginx, more(), others(false)), ["change nginx/+~unknown-hosts.conf (644)"]);
        let without = UnknownHostsLoaded { secured_others: false, ..others(true) };
        assert_eq!(along(nginx, more(), without), ["change nginx/+~unknown-hosts.conf (644)"]);
        let set = set(vec![secured().remove(0), InventoryChange::RemoveSite(before.clone()), more().remove(0)]);
        assert_eq!(touched_sites(&set), [before.main(), before.main()], "what comes anew is in no store yet");
    }
}

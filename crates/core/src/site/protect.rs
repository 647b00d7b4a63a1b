//! The decision who may see a path of a site. Pure: passwords come in as hashes, and stand in files of the harbor alone.

use super::{Guard, Network, Site, SiteRefusal, SiteRemark, change_site};
use crate::change::{Change, ExistingFile, FileRemoval, FileWrite, FolderMake, Plan, Purpose, Remark};
use crate::harbor::{Layout, Settings};

/// What was asked for.
#[derive(Debug, Clone, Default)]
pub struct Protect {
    pub path: String,
    /// A name, with the hash of its password.
    pub user: Option<(String, String)>,
    pub remove_user: Option<String>,
    /// All of them anew.
    pub from: Option<Vec<Network>>,
    /// Everybody may see it again.
    pub off: bool,
}

/// What the decision rests on.
#[derive(Debug, Clone)]
pub struct ProtectLoaded {
    pub site: Site,
    pub site_file: ExistingFile,
    /// The names and hashes of the path.
    pub passwords: ExistingFile,
    /// Whether the folder of such files is there.
    pub has_folder: bool,
}

/// Decides it. A guard without users and networks would let everybody in, and goes.
pub fn protect(
    request: &Protect,
    loaded: &ProtectLoaded,
    settings: &Settings,
    layout: &Layout,
) -> Result<Plan, SiteRefusal> {
    let (site, path) = (&loaded.site, &request.path);
    let mut plan = Plan::new(format!("site protect {} {path}", site.main()));
    let mut after = site.clone();
    let guards = &mut after.rules.content.guards;
    let none = || Guard { path: path.clone(), users: vec![], from: vec![] };
    let known = guards.iter().position(|guard| guard.path == *path).map(|place| guards.remove(place));
    if known.is_none() && (request.off || request.remove_user.is_some()) {
        return Err(SiteRefusal::NotProtected { site: site.main().clone(), path: path.clone() });
    }
    let mut guard = if request.off { none() } else { known.unwrap_or_else(none) };
    if let Some((name, _)) = &request.user {
        guard.users.retain(|user| user != name);
        guard.users.push(name.clone());
        guard.users.sort();
    }
    if let Some(name) = &request.remove_user {
        if !guard.users.contains(name) {
            return Err(SiteRefusal::NoSuchUser { name: name.clone(), path: path.clone() });
        }
        guard.users.retain(|user| user != name);
    }
    if let Some(from) = &request.from {
        guard.from = from.clone();
    }
    write_passwords(&mut plan, request, &guard, loaded, settings, layout);
    let stays = !guard.users.is_empty() || !guard.from.is_empty();
    plan.remark(match stays {
        true => SiteRemark::Protected { site: site.main().clone(), guard: guard.clone() },
        false => SiteRemark::NotProtected { site: site.main().clone(), path: path.clone() },
    });
    if stays {
        guards.push(guard);
        guards.sort_by(|one, other| one.path.cmp(&other.path));
    }
    if after != *site {
        change_site(&mut plan, site, &after, loaded.site_file.clone(), settings, layout);
    }
    if plan.is_empty() {
        plan.remarks = vec![Remark::Unchanged];
    }
    Ok(plan)
}

/// The file that the web server compares with. It is read at each request, so that nothing is reloaded for it.
fn write_passwords(
    plan: &mut Plan,
    request: &Protect,
    guard: &Guard,
    loaded: &ProtectLoaded,
    settings: &Settings,
    layout: &Layout,
) {
    let path = layout.passwords_of(loaded.site.main(), &request.path);
    let before = String::from_utf8_lossy(loaded.passwords.as_deref().unwrap_or_default()).into_owned();
    if guard.users.is_empty() {
        if let Some(before) = &loaded.passwords {
            plan.change(Change::RemoveFile(FileRemoval::new(path, before.clone(), 0o644, Purpose::Loose)));
        }
        return;
    }
    let mut lines: Vec<String> = Vec::new();
    for line in before.lines() {
        let name = line.split(':').next().unwrap_or_default();
        let is_new = request.user.as_ref().is_some_and(|(new, _)| new == name);
        if guard.users.iter().any(|user| user == name) && !is_new {
            lines.push(line.to_string());
        }
    }
    lines.extend(request.user.as_ref().map(|(name, hash)| format!("{name}:{hash}")));
    let text = lines.join("\n") + "\n";
    if text == before {
        return;
    }
    if !loaded.has_folder {
        plan.change(Change::MakeFolder(FolderMake {
            home: layout.root().to_path_buf(),
            below: "passwords".into(),
            system_user: None,
            mode: 0o750,
            // Its workers read them, and the programs of customers do not.
            group: Some(settings.web.group_or_usual().to_string()),
            early: true,
            starter_page: None,
            starter_files: vec![],
        }));
    }
    plan.set.file(FileWrite::new(path, loaded.passwords.clone(), text, 0o644, Purpose::Loose));
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::AccountName;
    use crate::harbor::WebServer;
    use crate::name::Host;
    use crate::site::{HttpsStates, SiteKind, SiteRules};

    fn loaded(guards: Vec<Guard>, passwords: Option<&str>) -> ProtectLoaded {
        let mut site = Site {
            account: AccountName::parse("bakery").unwrap(),
            hostnames: vec![Host::parse("crumbandtide.example").unwrap()],
            document_root: "/home/bakery/www".into(),
            kind: SiteKind::AddonDomain,
            https: HttpsStates::default(),
            certificate: None,
            rules: SiteRules::default(),
        };
        site.rules.content.guards = guards;
        ProtectLoaded {
            site,
            site_file: None,
            passwords: passwords.map(|text| text.as_bytes().to_vec()),
            has_folder: true,
        }
    }

    fn decided(request: &Protect, loaded: &ProtectLoaded) -> Result<(Vec<Guard>, Option<String>), SiteRefusal> {
        let mut settings = Settings::default();
        settings.web.server = WebServer::Nginx;
        let layout = Layout::new("/harbor");
        let plan = protect(request, loaded, &settings, &layout)?;
        let path = layout.passwords_of(loaded.site.main(), &request.path);
        let file = plan.set.pending(&path).map(|content| String::from_utf8_lossy(content).into_owned());
        let after = plan.set.inventory_changes().find_map(|change| match change {
            crate::change::InventoryChange::ReplaceSite { after, .. } => Some(after.rules.content.guards.clone()),
            _ => None,
        });
        Ok((after.unwrap_or_else(|| loaded.site.rules.content.guards.clone()), file))
    }

    fn asked(path: &str) -> Protect {
        Protect { path: path.into(), ..Protect::default() }
    }

    #[test]
    fn users_come_change_their_password_and_go() {
        let anna = |hash: &str| Protect { user: Some(("anna".into(), hash.into())), ..asked("/admin") };
        let (guards, file) = decided(&anna("$2b$1"), &loaded(vec![], None)).unwrap();
        assert_eq!((guards[0].users.clone(), file.as_deref()), (vec!["anna".to_string()], Some("anna:$2b$1\n")));
        let both = Guard { path: "/admin".into(), users: vec!["anna".into(), "ben".into()], from: vec![] };
        let present = loaded(vec![both.clone()], Some("anna:$2b$1\nben:$2b$2\nstranger:$2b$3\n"));
        let (guards, file) = decided(&anna("$2b$9"), &present).unwrap();
        assert_eq!((guards, file.as_deref()), (vec![both], Some("ben:$2b$2\nanna:$2b$9\n")), "a stranger's line goes");
        let gone = Protect { remove_user: Some("ben".into()), ..asked("/admin") };
        let (guards, file) = decided(&gone, &present).unwrap();
        assert_eq!((guards[0].users.clone(), file.as_deref()), (vec!["anna".to_string()], Some("anna:$2b$1\n")));
        let nobody = Protect { remove_user: Some("carl".into()), ..asked("/admin") };
        assert!(matches!(decided(&nobody, &present), Err(SiteRefusal::NoSuchUser { .. })));
        assert!(decided(&Protect { off: true, ..asked("/admin") }, &present).unwrap().0.is_empty());
        let elsewhere = Protect { off: true, ..asked("/other") };
        assert!(matches!(decided(&elsewhere, &present), Err(SiteRefusal::NotProtected { .. })));
    }

    #[test]
    fn a_guard_of_nobody_and_nowhere_goes() {
        let network = Network::parse("192.0.2.0/24").unwrap();
        let from = |from: Vec<Network>| Protect { from: Some(from), ..asked("/") };
        let (guards, file) = decided(&from(vec![network]), &loaded(vec![], None)).unwrap();
        assert_eq!((guards[0].from.clone(), file), (vec![network], None));
        assert!(decided(&from(vec![]), &loaded(guards, None)).unwrap().0.is_empty());
    }
}

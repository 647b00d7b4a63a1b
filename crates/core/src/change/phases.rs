//! In which order a change set is carried out. What can be taken back comes before what cannot, tests come before
//! reloads, and what the tests have accepted is what the reload takes over. The inventory is committed after the last one.

use super::{Change, ChangeSet, Needs};

/// One step of carrying out; each covers all changes of its kind.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Phase {
    /// Files are written and removed, each atomically.
    Files,
    /// The DNS server's own checker reads the zone files.
    ZoneChecks,
    /// The web server tests its files as they are now.
    WebTest,
    /// Each manager of PHP tests its pools.
    PoolTest,
    /// After the tests, so that a refused change leaves nothing in a home.
    Users,
    /// Never taken back; before the reload, which serves from there.
    Folders,
    /// New pools of PHP listen before the web server passes visitors on to them.
    PoolReload,
    WebReload,
    /// And those that go, go after it has stopped.
    PoolsGone,
    /// Other services get their certificates.
    Services,
    /// The DNS server loads what has changed, and is asked until it answers with it. So late because secondaries and caches
    /// take no serial back: what is taken back after this goes on under a higher one.
    ZoneLoads,
    /// Primaries elsewhere are sent signed updates.
    Updates,
    /// Last, since there is no way back.
    Cas,
}

impl Phase {
    /// Whether a running server reads the files in it, and has to read them again when they are taken back.
    pub fn tells_servers(self) -> bool {
        matches!(self, Phase::ZoneLoads | Phase::WebReload | Phase::PoolReload | Phase::PoolsGone)
    }
}

impl ChangeSet {
    /// The phases that it has, in their order.
    pub fn phases(&self) -> Vec<Phase> {
        let needs = self.needs();
        let mut phases: Vec<Phase> = self.changes.iter().filter_map(phase_of).chain(of_needs(&needs)).collect();
        phases.sort();
        phases.dedup();
        phases
    }
}

/// The phase that a change belongs to; none for the inventory.
fn phase_of(change: &Change) -> Option<Phase> {
    match change {
        Change::WriteFile(_) | Change::RemoveFile(_) | Change::LinkFile(_) => Some(Phase::Files),
        Change::MakeUser(_) => Some(Phase::Users),
        Change::MakeFolder(make) if make.early => Some(Phase::Files),
        Change::MakeFolder(_) => Some(Phase::Folders),
        Change::UpdateZone(_) => Some(Phase::Updates),
        Change::PlaceForService(_) => Some(Phase::Services),
        Change::TellCa(_) => Some(Phase::Cas),
        Change::Inventory { .. } => None,
    }
}

/// What the servers are to do about the files.
fn of_needs(needs: &Needs) -> impl Iterator<Item = Phase> {
    let zones = needs.all_zones().next().map(|_| Phase::ZoneChecks);
    let loads = needs.dns().then_some(Phase::ZoneLoads);
    let web = needs.web_reload.then_some([Phase::WebTest, Phase::WebReload]);
    let pools = (!needs.pools.is_empty()).then_some([Phase::PoolTest, Phase::PoolReload]);
    let gone = (!needs.gone_pools.is_empty()).then_some([Phase::PoolTest, Phase::PoolsGone]);
    let servers = web.into_iter().chain(pools).chain(gone);
    zones.into_iter().chain(loads).chain(servers.flatten())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::change::{CaErrand, FileWrite, FolderMake, InventoryChange, Purpose, ToldToCa, UserMake};

    fn name(text: &str) -> crate::name::Hostname {
        crate::name::Hostname::parse(text).unwrap()
    }

    #[test]
    fn tests_come_before_folders_and_reloads_and_the_ca_last_however_the_changes_stand() {
        let mut set = ChangeSet::new("attach gullrock.example");
        let errand = CaErrand { ca: "default".into(), told: ToldToCa::Closing };
        set.changes.push(Change::TellCa(errand));
        let home = "/home/yard".into();
        set.changes.push(Change::MakeFolder(FolderMake {
            home,
            below: "www/gullrock.example".into(),
            system_user: None,
            mode: 0o755,
            group: None,
            early: false,
            starter_page: None,
            starter_files: vec![],
        }));
        set.changes.push(Change::MakeUser(UserMake { name: "yard".into(), home: "/home/yard".into() }));
        let zone = name("gullrock.example");
        let write = |path: &str, purpose| FileWrite::new(path.into(), None, "x", 0o644, purpose);
        set.file(write("/harbor/servers/nginx/gullrock.example.conf", Purpose::SiteFile));
        set.file(write("/harbor/zones/gullrock.example.zone", Purpose::ZoneFile { zone }));
        set.inventory(InventoryChange::EndWait { site: name("gullrock.example").into() });
        assert_eq!(
            set.phases(),
            [
                Phase::Files,
                Phase::ZoneChecks,
                Phase::WebTest,
                Phase::Users,
                Phase::Folders,
                Phase::WebReload,
                Phase::ZoneLoads,
                Phase::Cas
            ]
        );
        let told: Vec<Phase> = set.phases().into_iter().filter(|phase| phase.tells_servers()).collect();
        assert_eq!(told, [Phase::WebReload, Phase::ZoneLoads]);
    }

    #[test]
    fn what_is_only_remembered_has_no_phase() {
        let mut set = ChangeSet::new("plan remove small");
        set.inventory(InventoryChange::EndWait { site: name("gullrock.example").into() });
        assert_eq!(set.phases(), []);
        set.file(FileWrite::new("/k/key.pem".into(), None, "K", 0o600, Purpose::Key));
        assert_eq!(set.phases(), [Phase::Files]);
    }
}

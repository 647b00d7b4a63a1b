//! What the servers have to hear of a change set. Each change says whether it needs a reload.

use super::{Change, ChangeSet, FileLink, FileRemoval, FileWrite, Purpose, Recorded, RecordedChange};
use crate::account::AccountName;
use crate::name::Hostname;

/// Which servers have to be told, once, after all changes.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Needs {
    pub web_reload: bool,
    /// The zone list has changed: the DNS server must read its configuration again.
    pub zone_list: bool,
    /// Zones whose file has changed.
    pub zones: Vec<Hostname>,
    /// Zones whose file is new: the server may have to be told of them one by one.
    pub new_zones: Vec<Hostname>,
    /// Zones whose file goes away.
    pub gone_zones: Vec<Hostname>,
    /// Pools of PHP that are written: each with its version and account.
    pub pools: Vec<(String, AccountName)>,
    /// Those that go away.
    pub gone_pools: Vec<(String, AccountName)>,
}

impl Needs {
    /// Whether the DNS server has to hear of anything.
    pub fn dns(&self) -> bool {
        self.zone_list || !self.gone_zones.is_empty() || self.all_zones().next().is_some()
    }

    /// All zones whose file was written.
    pub fn all_zones(&self) -> impl Iterator<Item = &Hostname> {
        self.zones.iter().chain(&self.new_zones)
    }
}

/// A file that a change is about, as far as servers care.
struct Touched<'a> {
    purpose: &'a Purpose,
    was_there: bool,
    stays: bool,
}

impl ChangeSet {
    /// What the servers must be told. Each change says whether it needs a reload.
    pub fn needs(&self) -> Needs {
        let links = self.changes.iter().filter_map(|change| match change {
            Change::LinkFile(link) => Some(link),
            _ => None,
        });
        let files = self.changes.iter().filter_map(|change| match change {
            Change::WriteFile(FileWrite { purpose, before, .. }) => {
                Some(Touched { purpose, was_there: before.is_some(), stays: true })
            }
            Change::RemoveFile(FileRemoval { purpose, .. }) => Some(Touched { purpose, was_there: true, stays: false }),
            _ => None,
        });
        Needs::of(files, links)
    }
}

impl Recorded {
    /// The same, for taking back what was recorded.
    pub fn needs(&self) -> Needs {
        let links = self.changes.iter().filter_map(|change| match change {
            RecordedChange::LinkFile(link) => Some(link),
            _ => None,
        });
        let files = self.changes.iter().filter_map(|change| match change {
            RecordedChange::WriteFile { purpose, before_hash, .. } => {
                Some(Touched { purpose, was_there: before_hash.is_some(), stays: true })
            }
            RecordedChange::RemoveFile { purpose, .. } => Some(Touched { purpose, was_there: true, stays: false }),
            _ => None,
        });
        Needs::of(files, links)
    }
}

impl Needs {
    fn of<'a>(files: impl Iterator<Item = Touched<'a>>, links: impl Iterator<Item = &'a FileLink>) -> Self {
        let mut needs = Needs::default();
        for Touched { purpose, was_there, stays } in files {
            match purpose {
                Purpose::SiteFile | Purpose::Staple => needs.web_reload = true,
                Purpose::ZoneList => needs.zone_list |= stays,
                Purpose::ZoneFile { zone } if !stays => needs.gone_zones.push(zone.clone()),
                Purpose::ZoneFile { zone } if was_there => needs.zones.push(zone.clone()),
                Purpose::ZoneFile { zone } => needs.new_zones.push(zone.clone()),
                Purpose::PhpPool { version, account } => {
                    let pools = if stays { &mut needs.pools } else { &mut needs.gone_pools };
                    pools.push((version.clone(), account.clone()));
                }
                // The site file that names them brings the reload.
                Purpose::Chain
                | Purpose::Key
                | Purpose::Request
                | Purpose::Loose
                | Purpose::ServerFile
                | Purpose::Copy => {}
            }
        }
        needs.new_zones.extend(links.filter(|link| link.moves).map(|link| link.zone.clone()));
        needs
    }
}

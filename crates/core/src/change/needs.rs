//! What the servers have to hear of a change set. A change says by itself whether it needs a reload.

use super::{Change, ChangeSet, FileRemoval, Purpose};
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

impl ChangeSet {
    /// What the servers must be told. A change says by itself whether it needs a reload.
    pub fn needs(&self) -> Needs {
        let mut needs = Needs::default();
        for change in &self.changes {
            let write = match change {
                Change::WriteFile(write) => write,
                Change::RemoveFile(FileRemoval { purpose: Purpose::SiteFile, .. }) => {
                    needs.web_reload = true;
                    continue;
                }
                Change::RemoveFile(FileRemoval { purpose: Purpose::ZoneFile { zone }, .. }) => {
                    needs.gone_zones.push(zone.clone());
                    continue;
                }
                _ => continue,
            };
            match &write.purpose {
                Purpose::SiteFile => needs.web_reload = true,
                Purpose::ZoneList => needs.zone_list = true,
                Purpose::ZoneFile { zone } if write.before_hash.is_none() => needs.new_zones.push(zone.clone()),
                Purpose::ZoneFile { zone } => needs.zones.push(zone.clone()),
                // The site file that names them brings the reload.
                Purpose::Chain | Purpose::Key | Purpose::Request | Purpose::Loose => {}
            }
        }
        needs
    }
}

//! For the tests of decisions alone: a change set read as a list of lines. What people read is made in the command line's
//! crate.

use super::{CaErrand, Change, InventoryChange, ToldToCa, ZoneUpdate};

impl Change {
    /// `change /harbor/zones/gullrock.example.zone (644)`
    pub(crate) fn line(&self) -> String {
        match self {
            Change::WriteFile(write) => {
                let verb = if write.before.is_some() { "change" } else { "write" };
                format!("{verb} {} ({:o})", write.path.display(), write.mode)
            }
            Change::RemoveFile(removal) => format!("remove {}", removal.path.display()),
            Change::LinkFile(link) => format!("link {} to {}", link.path.display(), link.to.display()),
            Change::UpdateZone(ZoneUpdate { zone, server, update, .. }) => {
                let (removed, added) = (update.removed.len(), update.added.len());
                format!("update {zone} at {server}: {removed} records removed, {added} added")
            }
            Change::MakeUser(make) => format!("make the system user {} with useradd", make.name),
            Change::MakeFolder(make) => {
                let page = if make.starter_page.is_some() { ", with a starter page if it is empty" } else { "" };
                format!("make {}{page}", make.home.join(&make.below).display())
            }
            Change::PlaceForService(placing) => format!("bring a certificate to {}", placing.name),
            Change::TellCa(errand) => told(errand),
            Change::Inventory { to } => match to {
                InventoryChange::AddAccount(account) => {
                    format!("inventory: add account {}", account.name)
                }
                InventoryChange::ReplaceAccount { after, .. } => format!("inventory: change account {}", after.name),
                InventoryChange::RemoveAccount(account) => format!("inventory: remove account {}", account.name),
                InventoryChange::SetPlan(plan) => format!("inventory: set plan {}", plan.name),
                InventoryChange::RemovePlan(plan) => format!("inventory: remove plan {}", plan.name),
                InventoryChange::SetNameservers { name, .. } => format!("inventory: set nameserver set {name}"),
                InventoryChange::RemoveNameservers { name, .. } => format!("inventory: remove nameserver set {name}"),
                InventoryChange::AddSite(site) => {
                    format!("inventory: add {} {} of {}", site.kind.words(), site.main(), site.account)
                }
                InventoryChange::ReplaceSite { after, .. } => {
                    format!("inventory: change site {}", after.main())
                }
                InventoryChange::RemoveSite(site) => format!("inventory: remove site {}", site.main()),
                InventoryChange::RemoveZone(zone) => format!("inventory: remove zone {}", zone.name),
                InventoryChange::AddZone(zone) => format!("inventory: add zone {}", zone.name),
                InventoryChange::ReplaceZone { after, .. } => format!("inventory: change zone {}", after.name),
                InventoryChange::KnowPattern(pattern) => {
                    format!("inventory: remember what the template `{}` gives now", pattern.template)
                }
                InventoryChange::RecordCertificate(certificate) => {
                    format!("inventory: record the certificate of {}", certificate.site)
                }
                InventoryChange::ForgetCertificate { folder } => {
                    format!("inventory: forget the former certificate in {}", folder.display())
                }
                InventoryChange::RememberRevocation(revocation) => {
                    format!("inventory: remember to revoke the certificate in {}", revocation.files.folder().display())
                }
                InventoryChange::ForgetRevocation { folder, .. } => {
                    format!("inventory: forget that the certificate in {} is to be revoked", folder.display())
                }
                InventoryChange::Await(waiting) => {
                    format!("inventory: remember to get a certificate for {}", waiting.site)
                }
                InventoryChange::Pause(pause) => format!("inventory: pause {}", pause.name),
                InventoryChange::EndWait { site } => {
                    format!("inventory: nothing waits for {site} any more")
                }
            },
        }
    }
}

fn told(CaErrand { ca, told }: &CaErrand) -> String {
    match told {
        ToldToCa::Revocation { site, reason, .. } => {
            format!("tell the CA {ca}: revoke the certificate of {site} ({})", reason.word())
        }
        other => format!("tell the CA {ca}: {other:?}"),
    }
}

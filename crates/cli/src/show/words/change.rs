//! The changes of a plan: a line each for people, an object each for programs.

use brightharbor_core::change::{CaErrand, InventoryChange, Purpose, RecordedChange, ToldToCa, ZoneUpdate};
use serde_json::{Value, json};

/// One line: what will be done.
pub fn change_line(change: &RecordedChange) -> String {
    match change {
        RecordedChange::WriteFile { path, purpose: Purpose::ServerFile, .. } => format!("change {}", path.display()),
        RecordedChange::WriteFile { path, mode, before_hash, .. } => {
            let verb = if before_hash.is_some() { "change" } else { "write" };
            format!("{verb} {} ({mode:o})", path.display())
        }
        RecordedChange::RemoveFile { path, .. } => format!("remove {}", path.display()),
        RecordedChange::LinkFile(link) => format!("link {} to {}", link.path.display(), link.to.display()),
        RecordedChange::UpdateZone(ZoneUpdate { zone, server, update, .. }) => {
            let (removed, added) = (update.removed.len(), update.added.len());
            format!("update {zone} at {server}: {removed} records removed, {added} added")
        }
        RecordedChange::MakeUser(make) => format!("create system user {} with useradd", make.name),
        RecordedChange::MakeFolder(make) => {
            let page = if make.starter_page.is_some() { ", with a starter page if it is empty" } else { "" };
            format!("create {}{page}", make.home.join(&make.below).display())
        }
        RecordedChange::PlaceForService { name, service, .. } => {
            let reload = if service.reload.is_empty() { "" } else { ", then reload it" };
            let (hostname, folder) = (&service.hostname, service.folder.display());
            format!("bring the certificate of {hostname} to {name} in {folder}{reload}")
        }
        RecordedChange::TellCa(errand) => errand_line(errand),
        RecordedChange::Inventory { to } => {
            let (code, subject) = inventory(to);
            format!("inventory: {} {subject}", code.replace('-', " "))
        }
    }
}

/// What is sent to a CA.
pub fn errand_line(CaErrand { ca, told }: &CaErrand) -> String {
    match told {
        ToldToCa::AnotherKey => format!("give the account at the CA `{ca}` a new key"),
        ToldToCa::Contact { contact: Some(contact) } => {
            format!("set the contact of the account at the CA `{ca}` to {contact}")
        }
        ToldToCa::Contact { contact: None } => format!("remove the contact of the account at the CA `{ca}`"),
        ToldToCa::Closing => format!("close the account at the CA `{ca}` for ever"),
        ToldToCa::Revocation { site, reason, .. } => {
            format!("have the CA `{ca}` revoke the certificate of {site} ({})", reason.word())
        }
    }
}

/// The code of an inventory change, and whom it is about.
fn inventory(to: &InventoryChange) -> (&'static str, String) {
    match to {
        InventoryChange::AddAccount(account) => ("add-account", account.name.to_string()),
        InventoryChange::ReplaceAccount { after, .. } => ("change-account", after.name.to_string()),
        InventoryChange::RemoveAccount(account) => ("remove-account", account.name.to_string()),
        InventoryChange::SetPlan(plan) => ("set-plan", plan.name.to_string()),
        InventoryChange::RemovePlan(plan) => ("remove-plan", plan.name.to_string()),
        InventoryChange::SetNameservers { name, .. } => ("set-nameserver-set", name.clone()),
        InventoryChange::RemoveNameservers { name, .. } => ("remove-nameserver-set", name.clone()),
        InventoryChange::AddSite(site) => ("add-site", site.main().to_string()),
        InventoryChange::ReplaceSite { after, .. } => ("change-site", after.main().to_string()),
        InventoryChange::RemoveSite(site) => ("remove-site", site.main().to_string()),
        InventoryChange::RemoveZone(zone) => ("remove-zone", zone.name.to_string()),
        InventoryChange::AddZone(zone) => ("add-zone", zone.name.to_string()),
        InventoryChange::ReplaceZone { after, .. } => ("change-zone", after.name.to_string()),
        InventoryChange::KnowPattern(pattern) => ("remember-template", pattern.template.to_string()),
        InventoryChange::RecordCertificate(certificate) => ("record-certificate", certificate.site.to_string()),
        InventoryChange::ForgetCertificate { folder } => ("forget-certificate", folder.display().to_string()),
        InventoryChange::RememberRevocation(revocation) => ("remember-revocation", revocation.site.to_string()),
        InventoryChange::ForgetRevocation { folder, .. } => ("forget-revocation", folder.display().to_string()),
        InventoryChange::Await(waiting) => ("await-certificate", waiting.site.to_string()),
        InventoryChange::Pause(pause) => ("pause-name", pause.name.to_string()),
        InventoryChange::EndWait { site } => ("end-wait", site.to_string()),
    }
}

/// For programs. Keys and contents of files are never part of it.
pub fn change_document(change: &RecordedChange) -> Value {
    match change {
        RecordedChange::WriteFile { path, mode, before_hash, purpose } => json!({
            "code": "write-file",
            "path": path.display().to_string(),
            "mode": format!("{mode:o}"),
            "creates": before_hash.is_none(),
            "purpose": purpose_word(purpose),
        }),
        RecordedChange::RemoveFile { path, purpose, .. } => json!({
            "code": "remove-file",
            "path": path.display().to_string(),
            "purpose": purpose_word(purpose),
        }),
        RecordedChange::LinkFile(link) => json!({
            "code": "link-file",
            "path": link.path.display().to_string(),
            "to": link.to.display().to_string(),
        }),
        RecordedChange::UpdateZone(ZoneUpdate { zone, server, update, .. }) => json!({
            "code": "update-zone",
            "zone": zone,
            "server": server.to_string(),
            "removed": update.removed.iter().map(ToString::to_string).collect::<Vec<_>>(),
            "added": update.added.iter().map(ToString::to_string).collect::<Vec<_>>(),
        }),
        RecordedChange::MakeUser(make) => json!({ "code": "create-user", "user": make.name }),
        RecordedChange::MakeFolder(make) => json!({
            "code": "create-folder",
            "path": make.home.join(&make.below).display().to_string(),
            "mode": format!("{:o}", make.mode),
        }),
        RecordedChange::PlaceForService { name, service, .. } => json!({
            "code": "place-for-service",
            "service": name,
            "hostname": service.hostname,
            "folder": service.folder.display().to_string(),
        }),
        RecordedChange::TellCa(CaErrand { ca, told }) => {
            let told = match told {
                ToldToCa::AnotherKey => "key-change",
                ToldToCa::Contact { .. } => "contact",
                ToldToCa::Closing => "closing",
                ToldToCa::Revocation { .. } => "revocation",
            };
            json!({ "code": "tell-ca", "ca": ca, "about": told })
        }
        RecordedChange::Inventory { to } => {
            let (code, subject) = inventory(to);
            json!({ "code": code, "subject": subject })
        }
    }
}

fn purpose_word(purpose: &Purpose) -> &'static str {
    match purpose {
        Purpose::SiteFile => "site-file",
        Purpose::ZoneFile { .. } => "zone-file",
        Purpose::ZoneList => "zone-list",
        Purpose::PhpPool { .. } => "php-pool",
        Purpose::ServerFile => "server-file",
        Purpose::Loose => "file",
        Purpose::Copy => "copy",
        Purpose::Request => "request",
        Purpose::Chain => "chain",
        Purpose::Key => "key",
        Purpose::Staple => "staple",
    }
}

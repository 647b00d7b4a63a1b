//! Writing inventory changes: all of one command in one transaction, with the logbook entry that records it.

use std::borrow::Cow;

use brightharbor_core::account::AccountName;
use brightharbor_core::change::{Change, ChangeSet, FileWrite, InventoryChange, Purpose, content_hash};
use brightharbor_core::name::Hostname;
use brightharbor_core::site::Site;
use rusqlite::{Connection, Transaction, TransactionBehavior, params};

use super::logbook::EntryOutcome;
use super::{Store, StoreError, former, pauses, revocations, word};

impl Store {
    /// A zone's file that was put back is what is served, under whatever serial that needed.
    pub fn put_back(&self, zone: &Hostname, hash: &str) -> Result<(), StoreError> {
        note_loaded(&self.connection, zone, hash)
    }

    /// Applies the inventory changes of a set and marks its logbook entry as done, both or neither.
    pub fn commit(&mut self, entry: i64, set: &ChangeSet) -> Result<(), StoreError> {
        let transaction = self.connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
        for change in &set.changes {
            if let Change::Inventory { to } = change {
                apply(&transaction, to)?;
            }
        }
        // After the inventory: a new zone is known by then.
        for (zone, hash) in set.changes.iter().filter_map(loaded_file) {
            note_loaded(&transaction, zone, hash.as_ref())?;
        }
        super::logbook::finish(&transaction, entry, EntryOutcome::Done, "")?;
        transaction.commit()?;
        Ok(())
    }
}

/// The zone whose file a change puts in place, with the hash of it. The server has proven that it serves that.
fn loaded_file(change: &Change) -> Option<(&Hostname, Cow<'_, str>)> {
    match change {
        Change::WriteFile(FileWrite { purpose: Purpose::ZoneFile { zone }, content, .. }) => {
            Some((zone, content_hash(content).into()))
        }
        Change::LinkFile(link) => Some((&link.zone, link.hash.as_str().into())),
        _ => None,
    }
}

fn note_loaded(connection: &Connection, zone: &Hostname, hash: &str) -> Result<(), StoreError> {
    connection.execute("UPDATE zone SET loaded = $1 WHERE name = $2", [hash, zone.as_str()])?;
    Ok(())
}

fn apply(transaction: &Transaction<'_>, change: &InventoryChange) -> Result<(), StoreError> {
    match change {
        InventoryChange::AddAccount(account) => {
            transaction.execute(
                "INSERT INTO account (name, email, home, system_user, plan, nameserver_set, reseller)
                 VALUES ($1, $2, $3, $4, $5, $6, $7)",
                params![
                    account.name.as_str(),
                    account.email,
                    account.home.to_string_lossy(),
                    account.system_user,
                    account.plan.as_ref().map(AccountName::as_str),
                    account.nameserver_set,
                    account.reseller.as_ref().map(AccountName::as_str),
                ],
            )?;
        }
        InventoryChange::ReplaceAccount { after, .. } => {
            transaction.execute(
                "UPDATE account SET email = $1, home = $2, system_user = $3, plan = $4, nameserver_set = $5,
                 reseller = $6 WHERE name = $7",
                params![
                    after.email,
                    after.home.to_string_lossy(),
                    after.system_user,
                    after.plan.as_ref().map(AccountName::as_str),
                    after.nameserver_set,
                    after.reseller.as_ref().map(AccountName::as_str),
                    after.name.as_str(),
                ],
            )?;
        }
        InventoryChange::RemoveAccount(account) => {
            transaction.execute("DELETE FROM account WHERE name = $1", [account.name.as_str()])?;
        }
        InventoryChange::SetPlan(plan) => {
            let limits = serde_json::to_string(&plan.limits).map_err(|error| StoreError::Value(error.to_string()))?;
            transaction.execute(
                "INSERT INTO plan (name, limits) VALUES ($1, $2) ON CONFLICT (name) DO UPDATE SET limits = $2",
                params![plan.name.as_str(), limits],
            )?;
        }
        InventoryChange::RemovePlan(plan) => {
            transaction.execute("DELETE FROM plan WHERE name = $1", [plan.name.as_str()])?;
        }
        InventoryChange::SetNameservers { name, after, .. } => {
            let value = serde_json::to_string(after).map_err(|error| StoreError::Value(error.to_string()))?;
            transaction.execute(
                "INSERT INTO nameserver_set (name, value) VALUES ($1, $2) ON CONFLICT (name) DO UPDATE SET value = $2",
                params![name, value],
            )?;
        }
        InventoryChange::RemoveNameservers { name, .. } => {
            transaction.execute("DELETE FROM nameserver_set WHERE name = $1", [name])?;
        }
        InventoryChange::AddSite(site) => add_site(transaction, site)?,
        InventoryChange::ReplaceSite { after, .. } => {
            transaction.execute(
                "UPDATE site SET document_root = $1, kind = $2, certificate_folder = $3, rules = $4, account = $5 WHERE main = $6",
                params![
                    after.document_root.to_string_lossy(),
                    word(&after.kind)?,
                    after.certificate.as_ref().map(|files| files.folder.to_string_lossy().into_owned()),
                    rules(after)?,
                    after.account.as_str(),
                    after.main().as_str(),
                ],
            )?;
            set_hostnames(transaction, after)?;
        }
        InventoryChange::RemoveSite(site) => {
            former::remember(transaction, site.main(), None)?;
            for table in ["hostname", "certificate", "waiting", "name_pause"] {
                transaction.execute(&format!("DELETE FROM {table} WHERE site = $1"), [site.main().as_str()])?;
            }
            transaction.execute("DELETE FROM site WHERE main = $1", [site.main().as_str()])?;
        }
        InventoryChange::RemoveZone(zone) => {
            transaction.execute("DELETE FROM zone WHERE name = $1", [zone.name.as_str()])?;
        }
        InventoryChange::AddZone(zone) => {
            transaction.execute(
                "INSERT INTO zone (name, account, home, primary_server, nameserver_set, pattern, prepared, signing)
                 VALUES ($1, $2, $3, $4, $5, $6, $7, $8)",
                params![
                    zone.name.as_str(),
                    zone.account.as_str(),
                    word(&zone.home)?,
                    zone.primary,
                    zone.nameserver_set,
                    zone.pattern,
                    json_of(zone.prepared.as_ref())?,
                    json_of(zone.signing.as_ref())?,
                ],
            )?;
        }
        InventoryChange::ReplaceZone { after, .. } => {
            transaction.execute(
                "UPDATE zone SET account = $1, home = $2, primary_server = $3, nameserver_set = $4, pattern = $5,
                    prepared = $6, signing = $7 WHERE name = $8",
                params![
                    after.account.as_str(),
                    word(&after.home)?,
                    after.primary,
                    after.nameserver_set,
                    after.pattern,
                    json_of(after.prepared.as_ref())?,
                    json_of(after.signing.as_ref())?,
                    after.name.as_str(),
                ],
            )?;
        }
        InventoryChange::KnowPattern(pattern) => {
            let value = serde_json::to_string(pattern).map_err(|error| StoreError::Value(error.to_string()))?;
            transaction.execute(
                "INSERT INTO pattern (key, value) VALUES ($1, $2) ON CONFLICT DO NOTHING",
                params![pattern.key(), value],
            )?;
        }
        InventoryChange::RecordCertificate(certificate) => {
            former::remember(transaction, &certificate.site, Some(&certificate.files))?;
            former::forget(transaction, certificate.files.folder())?;
            let wrong = |error: serde_json::Error| StoreError::Value(error.to_string());
            let names = serde_json::to_string(&certificate.names).map_err(wrong)?;
            let details = serde_json::to_string(&certificate.details).map_err(wrong)?;
            transaction.execute(
                "INSERT INTO certificate (site, names, folder, not_before, not_after, state, source, details)
                 VALUES ($1, $2, $3, $4, $5, $6, $7, $8)
                 ON CONFLICT (site) DO UPDATE SET names = $2, folder = $3, not_before = $4, not_after = $5, state = $6,
                 source = $7, details = $8",
                params![
                    certificate.site.as_str(),
                    names,
                    certificate.files.folder.to_string_lossy(),
                    word(&certificate.not_before)?,
                    word(&certificate.not_after)?,
                    word(&certificate.state)?,
                    word(&certificate.source)?,
                    details,
                ],
            )?;
            pauses::end(transaction, certificate)?;
        }
        InventoryChange::ForgetCertificate { folder } => former::forget(transaction, folder)?,
        InventoryChange::RememberRevocation(revocation) => revocations::remember(transaction, revocation)?,
        InventoryChange::ForgetRevocation { folder, told } => {
            revocations::forget(transaction, folder)?;
            if *told {
                former::note_revoked(transaction, folder)?;
            }
        }
        InventoryChange::Await(waiting) => {
            transaction.execute(
                "INSERT INTO waiting (site, since, not_before, reason) VALUES ($1, $2, $3, $4)
                 ON CONFLICT (site) DO UPDATE SET since = $2, not_before = $3, reason = $4",
                params![
                    waiting.site.as_str(),
                    word(&waiting.since)?,
                    waiting.not_before.map(|time| word(&time)).transpose()?,
                    waiting.reason,
                ],
            )?;
        }
        InventoryChange::Pause(pause) => pauses::remember(transaction, pause)?,
        InventoryChange::EndWait { site } => {
            transaction.execute("DELETE FROM waiting WHERE site = $1", [site.as_str()])?;
        }
    }
    Ok(())
}

fn add_site(transaction: &Transaction<'_>, site: &Site) -> Result<(), StoreError> {
    transaction.execute(
        "INSERT INTO site (main, account, document_root, kind, certificate_folder, rules)
         VALUES ($1, $2, $3, $4, $5, $6)",
        params![
            site.main().as_str(),
            site.account.as_str(),
            site.document_root.to_string_lossy(),
            word(&site.kind)?,
            site.certificate.as_ref().map(|files| files.folder.to_string_lossy().into_owned()),
            rules(site)?,
        ],
    )?;
    set_hostnames(transaction, site)
}

fn rules(site: &Site) -> Result<String, StoreError> {
    serde_json::to_string(&site.rules).map_err(|error| StoreError::Value(error.to_string()))
}

/// The names of a site, in their order; those that it has no more are taken out.
fn set_hostnames(transaction: &Transaction<'_>, site: &Site) -> Result<(), StoreError> {
    transaction.execute("DELETE FROM hostname WHERE site = $1", [site.main().as_str()])?;
    for (position, hostname) in site.hostnames.iter().enumerate() {
        transaction.execute(
            "INSERT INTO hostname (name, site, position, https) VALUES ($1, $2, $3, $4)",
            params![hostname.as_str(), site.main().as_str(), position as i64, word(&site.https_of(hostname))?],
        )?;
    }
    pauses::keep_attached(transaction, site)
}

fn json_of<T: serde::Serialize>(value: Option<&T>) -> Result<Option<String>, StoreError> {
    let text = value.map(serde_json::to_string).transpose();
    text.map_err(|error| StoreError::Value(error.to_string()))
}

//! Certificates that are to be revoked, until their CA has been told.

use std::path::Path;

use brightharbor_core::certificate::{CertificateFiles, Revocation};
use brightharbor_core::name::Host;
use rusqlite::{Transaction, params};

use super::read::host;
use super::{Store, StoreError, from_word, word};

impl Store {
    /// All of them, by site.
    pub fn revocations(&self) -> Result<Vec<Revocation>, StoreError> {
        self.revocations_where("ORDER BY site, folder", &[])
    }

    /// The first one of a site.
    pub fn revocation_of(&self, site: &Host) -> Result<Option<Revocation>, StoreError> {
        let found = self.revocations_where("WHERE site = $1 ORDER BY folder", &[&site.as_str()])?;
        Ok(found.into_iter().next())
    }

    fn revocations_where(&self, clause: &str, values: &[&dyn rusqlite::ToSql]) -> Result<Vec<Revocation>, StoreError> {
        let text = format!("SELECT site, folder, ca, reason, not_after FROM revocation {clause}");
        let mut query = self.connection.prepare_cached(&text)?;
        let row = |row: &rusqlite::Row<'_>| -> rusqlite::Result<[String; 5]> {
            Ok([row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?, row.get(4)?])
        };
        let rows = query.query_map(values, row)?.collect::<Result<Vec<_>, _>>()?;
        rows.into_iter()
            .map(|[site, folder, ca, reason, not_after]| {
                let files = CertificateFiles { folder: folder.into() };
                let (reason, not_after) = (from_word(&reason)?, from_word(&not_after)?);
                Ok(Revocation { site: host(&site)?, files, ca, reason, not_after })
            })
            .collect()
    }
}

pub(super) fn remember(transaction: &Transaction<'_>, revocation: &Revocation) -> Result<(), StoreError> {
    transaction.execute(
        "INSERT INTO revocation (folder, site, ca, reason, not_after) VALUES ($1, $2, $3, $4, $5)
         ON CONFLICT (folder) DO UPDATE SET reason = $4",
        params![
            revocation.files.folder().to_string_lossy(),
            revocation.site.as_str(),
            revocation.ca,
            word(&revocation.reason)?,
            word(&revocation.not_after)?,
        ],
    )?;
    Ok(())
}

pub(super) fn forget(transaction: &Transaction<'_>, folder: &Path) -> Result<(), StoreError> {
    transaction.execute("DELETE FROM revocation WHERE folder = $1", [folder.to_string_lossy()])?;
    Ok(())
}

//! Certificates that are installed no more: remembered with the day of their end, until their files are cleared away.

use std::path::Path;

use brightharbor_core::certificate::former::{FormerCertificate, is_replaceable};
use brightharbor_core::certificate::{CertificateFiles, CertificateState};
use brightharbor_core::name::Host;
use jiff::Timestamp;
use rusqlite::{OptionalExtension, Transaction, params};

use super::read::host;
use super::{Store, StoreError, from_word};

impl Store {
    /// Those that ended before a moment and lie nowhere that a site still names, the oldest first; not more than `most`.
    pub fn former_certificates(&self, before: Timestamp, most: usize) -> Result<Vec<FormerCertificate>, StoreError> {
        let mut query = self.connection.prepare_cached(
            "SELECT site, folder, revoked FROM former_certificate WHERE ended < $1
             AND folder NOT IN (SELECT folder FROM certificate WHERE certificate.site = former_certificate.site)
             ORDER BY ended LIMIT $2",
        )?;
        let rows = query
            .query_map(params![before.as_second(), most as i64], |row| {
                Ok((row.get::<_, String>(0)?, row.get::<_, String>(1)?, row.get(2)?))
            })?
            .collect::<Result<Vec<_>, _>>()?;
        rows.into_iter()
            .map(|(site, folder, revoked)| {
                let files = CertificateFiles { folder: folder.into() };
                Ok(FormerCertificate { site: host(&site)?, files, revoked })
            })
            .collect()
    }
}

/// The certificate of a site is about to be taken out, or another put in its place.
pub(super) fn remember(
    transaction: &Transaction<'_>,
    site: &Host,
    successor: Option<&CertificateFiles>,
) -> Result<(), StoreError> {
    let columns = "SELECT folder, not_after, source, state FROM certificate WHERE site = $1";
    let present: Option<(String, String, String, String)> = transaction
        .query_row(columns, [site.as_str()], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?)))
        .optional()?;
    let Some((folder, not_after, source, state)) = present else { return Ok(()) };
    if successor.is_some_and(|files| files.folder() == Path::new(&folder)) || !is_replaceable(from_word(&source)?) {
        return Ok(());
    }
    let ended: Timestamp = from_word(&not_after)?;
    let revoked = from_word::<CertificateState>(&state)? == CertificateState::Revoked;
    transaction.execute(
        "INSERT INTO former_certificate (folder, site, ended, revoked) VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING",
        params![folder, site.as_str(), ended.as_second(), revoked],
    )?;
    Ok(())
}

/// Its CA was told.
pub(super) fn note_revoked(transaction: &Transaction<'_>, folder: &Path) -> Result<(), StoreError> {
    let text = "UPDATE former_certificate SET revoked = 1 WHERE folder = $1";
    transaction.execute(text, [folder.to_string_lossy()])?;
    Ok(())
}

pub(super) fn forget(transaction: &Transaction<'_>, folder: &Path) -> Result<(), StoreError> {
    transaction.execute("DELETE FROM former_certificate WHERE folder = $1", [folder.to_string_lossy()])?;
    Ok(())
}

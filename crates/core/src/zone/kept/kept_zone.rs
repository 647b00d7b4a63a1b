//! A zone as it was read from where it is kept, and how a change of it gets there: by its file, or by an UPDATE.
//!
//! Everything that edits zones goes through here, so that it works the same wherever a zone is kept. Reading one is
//! for `brightharbor-io`.

use std::net::SocketAddr;
use std::path::PathBuf;

use super::Zone;
use crate::change::{Change, FileWrite, Purpose, ZoneUpdate};
use crate::zone::{Document, Record, Soa, Update};

/// A zone that was read to be changed.
#[derive(Debug, Clone)]
pub struct KeptZone {
    pub zone: Zone,
    pub document: Document,
    pub place: ZonePlace,
}

/// Where the zone is and what is known of it there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ZonePlace {
    /// A master file of this harbor.
    File { path: PathBuf },
    /// A primary server that takes updates signed with the key.
    Primary { server: SocketAddr, key_file: PathBuf },
}

impl KeptZone {
    /// The change that turns the zone into `edited`, which differs by the records removed and added.
    pub fn change(&self, edited: &Document, removed: &[Record], added: &[Record]) -> Change {
        match &self.place {
            ZonePlace::File { path } => {
                let purpose = Purpose::ZoneFile { zone: self.zone.name.clone() };
                let before = Some(self.document.source().to_vec());
                Change::WriteFile(FileWrite::new(path.clone(), before, edited.source(), 0o644, purpose))
            }
            ZonePlace::Primary { server, key_file } => {
                let (mut removed, mut added) = (removed.to_vec(), added.to_vec());
                let (old, new) = (self.document.soa(), edited.soa());
                // The server raises the serial itself; other values of the SOA record are for us to say.
                let others_differ = Soa { serial: old.serial, ..new.clone() } != *old;
                if others_differ {
                    removed.extend(self.document.soa_record().cloned());
                    added.extend(edited.soa_record().cloned());
                }
                Change::UpdateZone(ZoneUpdate {
                    zone: self.zone.name.clone(),
                    server: *server,
                    key_file: key_file.clone(),
                    serial: old.serial,
                    update: Update::new(&self.document, &removed, &added),
                })
            }
        }
    }

    pub fn is_file(&self) -> bool {
        matches!(self.place, ZonePlace::File { .. })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::AccountName;
    use crate::name::{DnsName, Hostname};
    use crate::zone::RecordType;
    use crate::zone::ZoneHome;

    #[test]
    fn an_update_names_records_and_the_start_of_authority_only_where_its_other_values_change() {
        let text = "$TTL 60\n@ SOA ns1 host 7 4h 30m 4w 5m\n@ NS ns1.example.\nwww A 192.0.2.1\n";
        let document = Document::parse(text, &DnsName::absolute("gullrock.example").unwrap()).unwrap();
        let name = Hostname::parse("gullrock.example").unwrap();
        let zone = Zone::new(name, AccountName::parse("boatyard").unwrap(), ZoneHome::Remote);
        let place = ZonePlace::Primary { server: "192.0.2.53:53".parse().unwrap(), key_file: "/key".into() };
        let kept = KeptZone { zone, document: document.clone(), place };
        let old: Vec<Record> = document.records().skip(2).cloned().collect();
        let today = jiff::civil::date(2026, 11, 23);
        let plain = document.with_replaced(&old, &[], today).unwrap();
        let Change::UpdateZone(update) = kept.change(&plain, &old, &[]) else { panic!() };
        assert_eq!((update.serial, update.update.removed.len(), update.update.added.len()), (7, 1, 0));
        let longer = Soa { retry: 900, ..document.soa().clone() };
        let edited = document.with_changes(&old, &[], Some(&longer), today).unwrap();
        let Change::UpdateZone(update) = kept.change(&edited, &old, &[]) else { panic!() };
        assert_eq!(update.update.added[0].record_type(), RecordType::SOA);
        assert_eq!(edited.soa(), &Soa { serial: 8, ..longer });
    }
}

//! What the logbook keeps of a change set: what was done to what, by hashes. No content of a file and nothing secret is
//! ever part of it. Entries stay readable for years, so that a member is added here, and none is renamed.

use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use super::{
    CaErrand, Change, ChangeSet, FileLink, FileRemoval, FileWrite, FolderMake, InventoryChange, Purpose,
    ServicePlacing, UserMake, ZoneUpdate,
};
use crate::change::content_hash;
use crate::harbor::Service;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Recorded {
    /// The command in words: `attach gullrock.example`.
    pub title: String,
    pub changes: Vec<RecordedChange>,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "change", rename_all = "kebab-case")]
pub enum RecordedChange {
    WriteFile {
        path: PathBuf,
        /// `None`: there was no file.
        before_hash: Option<String>,
        mode: u32,
        purpose: Purpose,
    },
    RemoveFile {
        path: PathBuf,
        before_hash: String,
        mode: u32,
        purpose: Purpose,
    },
    LinkFile(FileLink),
    UpdateZone(ZoneUpdate),
    MakeUser(UserMake),
    MakeFolder(FolderMake),
    PlaceForService {
        name: String,
        service: Service,
        former: Option<PathBuf>,
        folder: PathBuf,
    },
    TellCa(CaErrand),
    Inventory {
        to: Box<InventoryChange>,
    },
}

impl From<&ChangeSet> for Recorded {
    fn from(set: &ChangeSet) -> Self {
        Self { title: set.title.clone(), changes: set.changes.iter().map(RecordedChange::from).collect() }
    }
}

impl From<&Change> for RecordedChange {
    fn from(change: &Change) -> Self {
        // Field by field: the contents of files may be large, and may be keys.
        match change {
            Change::WriteFile(FileWrite { path, before, mode, purpose, .. }) => Self::WriteFile {
                path: path.clone(),
                before_hash: before.as_deref().map(content_hash),
                mode: *mode,
                purpose: purpose.clone(),
            },
            Change::RemoveFile(FileRemoval { path, before, mode, purpose, .. }) => Self::RemoveFile {
                path: path.clone(),
                before_hash: content_hash(before),
                mode: *mode,
                purpose: purpose.clone(),
            },
            Change::LinkFile(link) => Self::LinkFile(link.clone()),
            Change::UpdateZone(update) => Self::UpdateZone(update.clone()),
            Change::MakeUser(make) => Self::MakeUser(make.clone()),
            Change::MakeFolder(make) => Self::MakeFolder(make.clone()),
            Change::PlaceForService(ServicePlacing { name, service, former, folder, .. }) => Self::PlaceForService {
                name: name.clone(),
                service: service.clone(),
                former: former.clone(),
                folder: folder.clone(),
            },
            Change::TellCa(errand) => Self::TellCa(errand.clone()),
            Change::Inventory { to } => Self::Inventory { to: Box::new(to.clone()) },
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use zeroize::Zeroizing;

    fn set() -> ChangeSet {
        let service: Service =
            serde_json::from_str(r#"{ "hostname": "mail.crumbandtide.example", "folder": "/etc/post/tls" }"#).unwrap();
        let mut set = ChangeSet::new("certificate install");
        let path = PathBuf::from("/harbor/certificates/gullrock.example/1/key.pem");
        set.file(FileWrite::new(path, Some(b"BEFORE".to_vec()), "PRIVATE", 0o600, Purpose::Key));
        set.changes.push(Change::RemoveFile(FileRemoval::new("/s".into(), b"GONE".to_vec(), 0o644, Purpose::SiteFile)));
        set.changes.push(Change::PlaceForService(ServicePlacing {
            name: "post".into(),
            service,
            former: None,
            folder: "/etc/post/.tls-20261127".into(),
            chain_pem: "CHAIN".into(),
            key_pem: Zeroizing::new("PRIVATE".into()),
        }));
        set
    }

    #[test]
    fn neither_contents_nor_keys_are_recorded_and_what_is_reads_back() {
        let recorded = Recorded::from(&set());
        let text = serde_json::to_string(&recorded).unwrap();
        for secret in ["PRIVATE", "80,82,73", "CHAIN", "GONE", "BEFORE", "66,69,70"] {
            assert!(!text.contains(secret), "{secret}: {text}");
        }
        assert!(text.contains("key.pem") && text.contains("mail.crumbandtide.example"));
        assert_eq!(serde_json::from_str::<Recorded>(&text).unwrap(), recorded);
        assert_eq!(recorded.needs(), set().needs());
    }

    /// As the first version wrote it.
    #[test]
    fn an_entry_of_years_ago_is_read() {
        let text = r#"{"title":"attach gullrock.example","changes":[
            {"change":"write-file","path":"/h/zones/gullrock.example.zone","before_hash":null,"mode":420,
             "purpose":{"zone-file":{"zone":"gullrock.example"}}},
            {"change":"make-folder","home":"/home/yard","below":"www","system_user":null,"mode":493,"starter_page":null},
            {"change":"inventory","to":{"inventory":"add-site","account":"yard","hostnames":["gullrock.example"],
             "document_root":"/home/yard/www","kind":"addon-domain","https":"forced","certificate":null,
             "rules":{"redirects":[{"source":{"host":"gullrock.example","path":"/old","prefix":false},
             "target":{"path":"/new"},"status":302,"keep-path":false,"sides":"with-www"}]}}},
            {"change":"inventory","to":{"inventory":"end-wait","site":"gullrock.example"}}]}"#;
        let read: Recorded = serde_json::from_str(text).unwrap();
        let zone = crate::name::Hostname::parse("gullrock.example").unwrap();
        assert_eq!((read.needs().new_zones, read.changes.len()), (vec![zone], 4));
    }
}

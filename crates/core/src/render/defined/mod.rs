//! The zones that a DNS server's own configuration defines, whoever wrote it: name, kind, file, and whether the server
//! changes them by itself. Reading the files is for `brightharbor-io` (`server/include.rs`); one name alone is looked for
//! by `found_in`. The grammars are in `bind`, `knot` and `nsd`: only what stands in the files is known, not what a server
//! was told at run time.

mod bind;
mod knot;
mod moving;
mod nsd;

use std::ops::Range;
use std::path::{Path, PathBuf};

use crate::harbor::DnsServer;

pub use moving::{moved_definition, without_definition};
pub(super) use moving::{without_defined, without_moved};

/// One definition of a zone.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DefinedZone {
    /// In lower case, without the dot at the end; `.` for the root.
    pub name: String,
    pub kind: ZoneKind,
    /// Where its records are, if the configuration tells.
    pub file: Option<PathBuf>,
    pub manner: Manner,
    /// The file of the configuration, and the line (from 1) at which the definition begins.
    pub defined_in: PathBuf,
    pub line: usize,
    /// Where in that file the whole definition stands, in bytes.
    pub span: Range<usize>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ZoneKind {
    Primary,
    Secondary,
    /// Hints, forwarding, stubs, and what else is no zone of its own.
    Other,
}

impl ZoneKind {
    pub fn word(self) -> &'static str {
        match self {
            ZoneKind::Primary => "primary",
            ZoneKind::Secondary => "secondary",
            ZoneKind::Other => "other",
        }
    }
}

/// One item of a section of a configuration that is made of lines (Knot DNS, NSD): its keys with their values, and where it
/// stands, in bytes.
#[derive(Debug, Clone, Default)]
struct Item {
    section: String,
    keys: Vec<(String, String)>,
    at: Range<usize>,
}

impl Item {
    fn value(&self, key: &str) -> Option<&str> {
        self.keys.iter().find(|(name, _)| name == key).map(|(_, value)| value.as_str())
    }

    fn is(&self, key: &str, value: &str) -> bool {
        self.value(key).is_some_and(|found| found == value)
    }
}

/// Who changes the records of a zone.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Manner {
    /// The server takes updates for it (RFC 2136): it rewrites the file.
    pub dynamic: bool,
    /// The server signs it (RFC 4035).
    pub signed: bool,
    /// It is answered for some askers alone (BIND's views).
    pub in_view: bool,
}

impl Manner {
    /// Whether its file is the whole truth, changed by hand alone.
    pub fn is_static(self) -> bool {
        self == Self::default()
    }

    pub fn words(self) -> &'static str {
        match self {
            Manner { in_view: true, .. } => "in a view",
            Manner { dynamic: true, signed: true, .. } => "dynamic, signed",
            Manner { dynamic: true, .. } => "dynamic",
            Manner { signed: true, .. } => "signed",
            _ => "static",
        }
    }
}

/// All zones that the files of a configuration define, in their order. `directory` is where relative names count from where
/// the configuration does not tell. What no name can be (spaces, controls: a quote that does not end) is no zone.
pub fn defined_zones(server: DnsServer, files: &[(PathBuf, String)], directory: Option<&Path>) -> Vec<DefinedZone> {
    let mut zones = match server {
        DnsServer::Bind => bind::zones(files, directory),
        DnsServer::Knot => knot::zones(files, directory),
        DnsServer::Nsd => nsd::zones(files, directory),
        DnsServer::StandIn | DnsServer::None => vec![],
    };
    zones.retain(|zone| !zone.name.contains(|character: char| character.is_whitespace() || character.is_control()));
    zones
}

/// A zone's name as it is compared.
fn bare_name(word: &str) -> String {
    let bare = word.trim_matches('"').to_ascii_lowercase();
    match bare.trim_end_matches('.') {
        "" => ".".into(),
        name => name.into(),
    }
}

fn line_at(text: &str, at: usize) -> usize {
    text.as_bytes()[..at].iter().filter(|byte| **byte == b'\n').count() + 1
}

/// A file's name in a configuration, from the folder that it counts from.
fn from_folder(folder: Option<&Path>, file: &str) -> Option<PathBuf> {
    let file = Path::new(file);
    match (file.is_absolute(), folder) {
        (true, _) => Some(file.to_path_buf()),
        (false, Some(folder)) => Some(folder.join(file)),
        (false, None) => None,
    }
}

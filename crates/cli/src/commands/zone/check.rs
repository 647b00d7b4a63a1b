//! `zone check`: what is wrong with a zone, and what hurts.

use std::path::PathBuf;

use brightharbor_core::finding::{Finding, Severity};
use brightharbor_core::name::DnsName;
use brightharbor_core::zone::ZoneError;
use brightharbor_core::zone::rules::judge;
use clap::Args;
use serde_json::{Value, json};

use super::source::{ZoneSource, read};
use crate::commands::Report;
use crate::error::{Error, Exit};
use crate::run::Context;
use crate::show::human::{self, Page};
use crate::show::{Shown, json};

/// Check a zone: whether a server would load it (faults), and what hurts (risks, notes).
#[derive(Debug, Args)]
pub struct Check {
    /// A zone of this harbor.
    zone: Option<String>,
    /// A master file anywhere, instead of a zone of the harbor.
    #[arg(long, value_name = "FILE", requires = "origin", conflicts_with = "zone")]
    file: Option<PathBuf>,
    /// The name of the zone in that file.
    #[arg(long, value_name = "NAME", requires = "file")]
    origin: Option<DnsName>,
}

pub fn run(args: &Check, context: &Context) -> Report {
    let ZoneSource { origin, path, document, .. } =
        read(args.zone.as_deref(), args.file.as_ref(), args.origin.as_ref(), context)?;
    let path = path.display().to_string();
    Ok(match document {
        Ok(zone) => {
            let (records, serial) = (zone.records().count(), zone.soa().serial);
            let findings = judge(&zone);
            // The process ends soon: giving back a million records one by one would take longer than reading them.
            std::mem::forget(zone);
            Box::new(Checked { zone: origin.bare(), records, serial, findings })
        }
        Err(error) => return Err(unreadable(&path, &error)),
    })
}

/// A file that no server would load: a fault, with its place.
pub fn unreadable(path: &str, error: &ZoneError) -> Error {
    let place = match &error.file {
        Some(_) => format!("{path}: {error}"),
        None => {
            let offence = if error.offence.is_empty() { String::new() } else { format!(" (at `{}`)", error.offence) };
            format!("{path}:{}:{}: {}{offence}", error.line, error.column, error.problem)
        }
    };
    Error::new(Exit::Fault, "zone-unreadable", place).advice("mend that line; a server would not load the zone")
}

struct Checked {
    zone: String,
    records: usize,
    serial: u32,
    findings: Vec<Finding>,
}

impl Shown for Checked {
    fn human(&self, page: &mut Page) {
        let (records, serial) = (self.records, self.serial);
        let faults = self.findings.iter().filter(|finding| finding.severity == Severity::Fault).count();
        let verdict = match (faults, self.findings.len()) {
            (0, 0) => "sound",
            (0, _) => "would be loaded, with the findings below",
            _ => "would be refused by a server",
        };
        page.heading(&format!("{}: {verdict} ({records} records, serial {serial})", self.zone));
        human::findings(page, &self.findings);
    }

    fn json(&self) -> Value {
        json!({
            "command": "zone check",
            "zone": self.zone,
            "records": self.records,
            "serial": self.serial,
            "findings": self.findings.iter().map(json::FindingDocument::from).collect::<Vec<_>>(),
        })
    }

    fn exit(&self) -> Exit {
        let fault = self.findings.iter().any(|finding| finding.severity == Severity::Fault);
        if fault { Exit::Fault } else { Exit::Done }
    }
}

//! `zone check`: what is wrong with a zone, and what hurts.

use std::path::PathBuf;

use brightharbor_core::finding::{Finding, Severity};
use brightharbor_core::name::DnsName;
use brightharbor_core::zone::rules::judge_within;
use clap::Args;
use serde_json::{Value, json};

use super::source::{ZoneSource, read};
use crate::commands::Report;
use crate::error::Exit;
use crate::options::IncludeOptions;
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
    #[command(flatten)]
    includes: IncludeOptions,
}

pub fn run(args: &Check, context: &Context) -> Report {
    let ZoneSource { origin, document: zone, around } =
        read(args.zone.as_deref(), args.file.as_ref(), args.origin.as_ref(), args.includes, context)?;
    let (records, serial) = (zone.records().count(), zone.soa().serial);
    let findings = judge_within(&zone, &around);
    drop(zone.leave_to_the_end());
    Ok(Box::new(Checked { zone: origin.bare(), records, serial, findings }))
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

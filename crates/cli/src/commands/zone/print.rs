//! `zone print`: one record a line, everything written out; or the file, byte for byte.

use std::path::PathBuf;

use brightharbor_core::name::DnsName;
use brightharbor_core::zone::rules::judge_loading;
use brightharbor_core::zone::{Document, Record};
use clap::Args;
use serde_json::{Value, json};

use super::source::{found, read_file};
use crate::commands::Report;
use crate::error::{Error, Exit};
use crate::options::IncludeOptions;
use crate::show::Shown;
use crate::show::human::Page;

/// Print a zone with one record a line: full owner, TTL, class, type, data. Refuses what a server would not load.
#[derive(Debug, Args)]
pub struct Print {
    /// A master file; needs --origin.
    file: PathBuf,
    /// The name of the zone in the file.
    #[arg(long, value_name = "NAME")]
    origin: DnsName,
    #[command(flatten)]
    includes: IncludeOptions,
    /// Print the file back byte for byte, once it has been understood.
    #[arg(long)]
    exact: bool,
    /// Print what was understood, even if a server would refuse the zone.
    #[arg(long)]
    anyway: bool,
}

pub fn run(args: &Print) -> Report {
    let zone = read_file(&args.file, &args.origin, args.includes).map_err(found)?;
    if let Some(finding) = judge_loading(&zone).into_iter().next().filter(|_| !args.anyway) {
        let place = finding.place.map(|place| format!(":{}:{}", place.line, place.column)).unwrap_or_default();
        let message = format!("{}{place}: {} ({})", args.file.display(), finding.message, finding.code);
        let advice = format!("{}; or print it --anyway", finding.cure);
        return Err(Error::new(Exit::Fault, finding.code, message).advice(advice));
    }
    Ok(Box::new(Printed { zone, exact: args.exact }))
}

struct Printed {
    zone: Document,
    exact: bool,
}

impl Shown for Printed {
    fn human(&self, page: &mut Page) {
        if self.exact {
            page.bytes(self.zone.source());
        } else {
            self.zone.served_records().iter().for_each(|record| page.line(&record.to_string()));
            // A comment, so that the output is a zone file all the same.
            for (owner, kind) in self.zone.merged_ttls() {
                page.line(&format!(
                    "; note: {} {kind} has several times to live in the file; servers give all of it the first",
                    owner.bare()
                ));
            }
        }
    }

    fn json(&self) -> Value {
        let records: Vec<String> = self.zone.served_records().iter().map(Record::to_string).collect();
        let merged = self.zone.merged_ttls();
        json!({
            "command": "zone print",
            "records": records,
            "merged_ttls": merged.iter().map(|(owner, kind)| json!([owner.bare(), kind.to_string()])).collect::<Vec<_>>(),
        })
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}

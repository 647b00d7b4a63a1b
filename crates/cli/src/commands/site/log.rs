//! `site log`: the last lines that the web server has logged for a site.

use std::path::Path;

use brightharbor_core::site::SiteLogs;
use clap::Args;
use serde_json::{Value, json};

use crate::commands::{Report, find_site, host};
use crate::error::{Error, Exit};
use crate::files;
use crate::run::Context;
use crate::show::Shown;
use crate::show::human::Page;

/// Show the last requests to a site, and what went wrong.
#[derive(Debug, Args)]
pub struct Log {
    /// One of its hostnames.
    hostname: String,
    /// How many lines of each log.
    #[arg(long, value_name = "COUNT", default_value_t = 10, value_parser = clap::value_parser!(u16).range(1..=1000))]
    lines: u16,
}

pub fn run(args: &Log, context: &Context) -> Report {
    let name = host(&args.hostname)?;
    let harbor = context.open()?;
    let site = find_site(&harbor, &name)?;
    let Some(folder) = &harbor.settings.sites.logs else {
        return Err(Error::refused("no-logs", "harbor.toml names no folder for the logs of sites")
            .advice("set `logs` under [sites], then: brightharbor site realign --all"));
    };
    let logs = SiteLogs::of(folder, &site);
    let last = |path: &Path| -> Result<OneLog, Error> {
        let failed = |error: std::io::Error| Error::refused("file", format!("{}: {error}", path.display()));
        Ok(OneLog {
            path: path.display().to_string(),
            lines: files::last_lines(path, args.lines.into()).map_err(failed)?,
        })
    };
    Ok(Box::new(Logged { site: site.main().to_string(), access: last(&logs.access)?, errors: last(&logs.errors)? }))
}

struct OneLog {
    path: String,
    lines: Option<Vec<String>>,
}

struct Logged {
    site: String,
    access: OneLog,
    errors: OneLog,
}

impl Shown for Logged {
    fn human(&self, page: &mut Page) {
        for (what, log) in [("requests", &self.access), ("errors", &self.errors)] {
            page.heading(&format!("{}: {what}, from {}", self.site, log.path));
            match log.lines.as_deref() {
                None => page.line("  no such file yet"),
                Some([]) => page.line("  nothing yet"),
                Some(lines) => lines.iter().for_each(|line| page.hanging("  ", line)),
            }
        }
    }

    fn json(&self) -> Value {
        let log = |log: &OneLog| json!({ "file": log.path, "lines": log.lines });
        json!({ "command": "site log", "site": self.site, "access": log(&self.access), "errors": log(&self.errors) })
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}

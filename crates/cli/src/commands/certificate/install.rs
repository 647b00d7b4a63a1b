//! `certificate install`: brings certificates to the services of harbor.toml; `tend` does the same after each renewal.

use clap::Args;
use serde_json::{Value, json};

use crate::commands::Report;
use crate::error::{Error, Exit};
use crate::run::Context;
use crate::services::{Brought, bring};
use crate::show::Shown;
use crate::show::human::{self, Page};

/// Bring certificates to other services than the web server: a mail server, an administration page. Which ones, and
/// where they take them from, is settled under [services] in harbor.toml.
#[derive(Debug, Args)]
pub struct Install {
    /// The service, by its name there; all of them, if not given.
    #[arg(long, value_name = "NAME")]
    service: Option<String>,
}

pub fn run(args: &Install, context: &Context) -> Report {
    let harbor = context.open()?;
    let known = &harbor.settings.services;
    if let Some(name) = args.service.as_deref().filter(|name| !known.contains_key(*name)) {
        return Err(Error::refused("unknown-service", format!("harbor.toml has no service `{}`", name.escape_debug()))
            .advice(format!("add it: [services.{name}] with hostname, folder, and reload")));
    }
    if known.is_empty() {
        return Err(Error::refused("unknown-service", "harbor.toml names no service")
            .advice("add one: [services.NAME] with hostname, folder, and reload"));
    }
    Ok(Box::new(Installed { brought: bring(&harbor, args.service.as_deref())? }))
}

struct Installed {
    brought: Vec<Brought>,
}

impl Shown for Installed {
    fn human(&self, page: &mut Page) {
        self.brought.iter().for_each(|brought| human::brought(page, brought));
    }

    fn json(&self) -> Value {
        json!({ "command": "certificate install", "services": self.brought })
    }

    fn exit(&self) -> Exit {
        if self.brought.iter().any(|brought| brought.problem.is_some()) { Exit::Fault } else { Exit::Done }
    }
}

//! Which domains a delegation command is about: given ones, a list in a file, those of an account, or all.

use std::path::PathBuf;

use brightharbor_core::name::{Hostname, registrable_domain};
use brightharbor_io::harbor::Harbor;
use clap::Args;

use crate::commands::{find_account, hostname};
use crate::error::Error;
use crate::files;

#[derive(Debug, Clone, Args)]
pub struct ChosenOptions {
    /// The domains, such as gullrock.example.
    domains: Vec<String>,
    /// All zones of the harbor.
    #[arg(long, conflicts_with_all = ["domains", "account", "from_file"])]
    all: bool,
    /// All zones of this account.
    #[arg(long, value_name = "ACCOUNT", conflicts_with_all = ["domains", "from_file"])]
    account: Option<String>,
    /// The domains in this file, one a line; `#` begins a comment.
    #[arg(long, value_name = "FILE", conflicts_with = "domains")]
    from_file: Option<PathBuf>,
}

/// The domains, each once, and what was made of what was typed.
pub struct Chosen {
    pub domains: Vec<Hostname>,
    pub said: Vec<String>,
}

impl ChosenOptions {
    pub fn is_empty(&self) -> bool {
        self.domains.is_empty() && !self.all && self.account.is_none() && self.from_file.is_none()
    }

    pub fn choose(&self, harbor: Option<&Harbor>) -> Result<Chosen, Error> {
        let mut chosen = Chosen { domains: vec![], said: vec![] };
        if self.all || self.account.is_some() {
            let harbor = harbor.ok_or_else(|| {
                Error::wrong_use("no harbor, so no domains to check")
                    .advice("name the harbor with --harbor, or the domains themselves")
            })?;
            let account = self.account.as_deref().map(|typed| find_account(harbor, typed)).transpose()?;
            let mut zones = harbor.store.zones()?;
            zones.retain(|zone| account.as_ref().is_none_or(|account| account.name == zone.account));
            chosen.domains = zones.into_iter().map(|zone| zone.name).collect();
            return Ok(chosen);
        }
        if self.is_empty() {
            return Err(Error::wrong_use("no domain is given")
                .advice("give one or more, or --all, --account ACCOUNT, --from-file LIST"));
        }
        for typed in &self.domains {
            chosen.add(hostname(typed)?)?;
        }
        if let Some(path) = &self.from_file {
            let shown = path.display();
            let text = files::given_text(path, "give a text file with one domain a line")?;
            for (number, line) in text.lines().enumerate() {
                let line = line.split('#').next().unwrap_or_default().trim();
                if line.is_empty() {
                    continue;
                }
                let at =
                    |error: Error| Error { message: format!("{shown}:{}: {}", number + 1, error.message), ..error };
                hostname(line).and_then(|name| chosen.add(name)).map_err(at)?;
            }
        }
        let mut seen = std::collections::HashSet::new();
        chosen.domains.retain(|domain| seen.insert(domain.clone()));
        Ok(chosen)
    }
}

impl Chosen {
    fn add(&mut self, typed: Hostname) -> Result<(), Error> {
        let domain = registrable_domain(&typed).ok_or_else(|| {
            Error::wrong_use(format!("{typed} is a public suffix, not a domain")).advice("give a domain below it")
        })?;
        if domain != typed {
            self.said.push(format!("{typed} lies in the domain {domain}, which is checked"));
        }
        self.domains.push(domain);
        Ok(())
    }
}

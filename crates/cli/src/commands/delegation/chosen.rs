//! Which domains a delegation command is about: given ones, a list in a file, those of an account, or all.

use std::path::PathBuf;

use std::collections::HashMap;

use brightharbor_core::delegation::{Brief, domain_of};
use brightharbor_core::name::{Hostname, is_registrable};
use brightharbor_io::dns::Walker;
use brightharbor_io::harbor::Harbor;
use clap::Args;
use futures_util::{StreamExt, stream};

use crate::commands::{find_account, zone_name};
use crate::error::Error;
use crate::files;
use crate::network::Network;

/// Names that are looked for at once.
const AT_ONCE: usize = 64;

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
    /// The domains in this file, one a line; `#` begins a comment. `-` is standard input.
    #[arg(long, value_name = "FILE", conflicts_with = "domains")]
    from_file: Option<PathBuf>,
}

/// The domains, each once, and what was made of what was typed.
#[derive(Default)]
pub struct Chosen {
    pub domains: Vec<Hostname>,
    pub said: Vec<String>,
    /// Names that may lie in a zone of another name.
    to_place: Vec<Hostname>,
}

impl ChosenOptions {
    pub fn is_empty(&self) -> bool {
        self.domains.is_empty() && !self.all && self.account.is_none() && self.from_file.is_none()
    }

    pub fn choose(&self, harbor: Option<&Harbor>) -> Result<Chosen, Error> {
        let mut chosen = Chosen::default();
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
            chosen.add(zone_name(typed)?, harbor)?;
        }
        if let Some(path) = &self.from_file {
            let shown = path.display();
            for (number, line) in files::given_list(path, "give a text file with one domain a line")? {
                let at = |error: Error| Error { message: format!("{shown}:{number}: {}", error.message), ..error };
                chosen.add(zone_name(&line).map_err(at)?, harbor)?;
            }
        }
        Ok(chosen)
    }
}

impl Chosen {
    /// Names that are no registrable domains wait until the DNS has shown in which zone each lies. A zone of the harbor is
    /// one, whatever the DNS shows yet.
    fn add(&mut self, typed: Hostname, harbor: Option<&Harbor>) -> Result<(), Error> {
        if !is_registrable(&typed) && !self.to_place.contains(&typed) {
            let zone = harbor.map(|harbor| harbor.store.zone(&typed)).transpose()?.flatten();
            self.to_place.extend(zone.is_none().then(|| typed.clone()));
        }
        self.domains.push(typed);
        Ok(())
    }

    /// Asks the DNS where the zone of each of these names begins.
    pub async fn place_by_asking(&mut self, network: &Network, per_second: u32) -> Result<(), Error> {
        if self.to_place.is_empty() {
            return Ok(());
        }
        let walker = Walker::new(per_second).await;
        let mut briefs = Vec::with_capacity(self.to_place.len());
        for name in &self.to_place {
            briefs.push((name.clone(), Brief { thorough: false, hostnames: vec![], ..network.brief(name)? }));
        }
        let walk = |(name, brief): (Hostname, Brief)| {
            let walker = &walker;
            async move {
                let zone = domain_of(&name, &walker.walk(brief).await.picture);
                (name, zone)
            }
        };
        let shown: HashMap<Hostname, Option<Hostname>> =
            stream::iter(briefs.into_iter().map(walk)).buffer_unordered(AT_ONCE).collect().await;
        self.place(|name| shown.get(name).cloned().flatten())
    }

    /// Puts the zone that each of these names lies in in its place.
    pub fn place(&mut self, zone_of: impl Fn(&Hostname) -> Option<Hostname>) -> Result<(), Error> {
        for typed in std::mem::take(&mut self.to_place) {
            let domain = zone_of(&typed).ok_or_else(|| {
                Error::wrong_use(format!("{typed} is a public suffix, not a domain")).advice("give a domain below it")
            })?;
            if domain != typed {
                self.said.push(format!("{typed} lies in the domain {domain}, which is checked"));
            }
            self.domains.iter_mut().filter(|one| **one == typed).for_each(|one| *one = domain.clone());
        }
        let mut seen = std::collections::HashSet::new();
        self.domains.retain(|domain| seen.insert(domain.clone()));
        Ok(())
    }
}

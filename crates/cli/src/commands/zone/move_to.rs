//! `zone move`: NS records and start of authority of zones to another nameserver set.

use brightharbor_core::change::{ChangeSet, InventoryChange};
use brightharbor_core::harbor::NameserverSet;
use brightharbor_core::name::DnsName;
use brightharbor_core::zone::{Pattern, TemplateError, serial_date};
use brightharbor_core::zone::{Zone, align, delegated_to};
use brightharbor_io::harbor::Harbor;
use clap::Args;
use jiff::Timestamp;
use serde_json::{Value, json};

use super::chosen::{Chosen, Outcome, bring, document, show};
use crate::commands::{Report, nameserver};
use crate::error::{Error, Exit};
use crate::options::ChangeOptions;
use crate::run::{Changed, Context, Decision, change};
use crate::show::human::Page;
use crate::show::{Shown, json};

/// Move zones to another nameserver set: their NS records, start of authority and glue.
#[derive(Debug, Args)]
pub struct Move {
    #[command(flatten)]
    chosen: Chosen,
    /// The set, as `nameserver list` names it; `host` for that of `[host]`.
    #[arg(long, value_name = "SET")]
    to: String,
    #[command(flatten)]
    options: ChangeOptions,
}

pub fn run(args: &Move, context: &Context) -> Report {
    if !args.chosen.any() {
        return Err(Error::wrong_use("which zones?").advice("name some, or give --account or --all"));
    }
    let to = if args.to == "host" { None } else { Some(args.to.clone()) };
    let set = with_members(&context.open()?, &args.to)?;
    let title = format!("zone move --to {}", args.to);
    let mut outcomes = Vec::new();
    let mut zones = 0;
    let changed = context.block_on(change(context, &title, &args.options, async |harbor, now| {
        let chosen = args.chosen.zones(harbor)?;
        zones = chosen.len();
        let mut changes = ChangeSet::new(&title);
        for zone in chosen {
            outcomes.extend(one(harbor, &zone, to.clone(), &set, now, &mut changes).await?);
        }
        Ok(Decision { set: changes, said: vec![] })
    }))??;
    Ok(Box::new(Moved { changed, outcomes, zones, to: args.to.clone(), set }))
}

/// A set that zones can be moved to: that of `[host]` may be empty.
fn with_members(harbor: &Harbor, name: &str) -> Result<NameserverSet, Error> {
    let set = nameserver::find(harbor, name)?;
    if set.nameservers.is_empty() {
        return Err(Error::refused("unknown-set", format!("the nameserver set `{name}` names no nameserver"))
            .advice("name them in harbor.toml, or see `brightharbor nameserver add`"));
    }
    Ok(set)
}

async fn one(
    harbor: &Harbor,
    zone: &Zone,
    to: Option<String>,
    set: &NameserverSet,
    now: Timestamp,
    changes: &mut ChangeSet,
) -> Result<Option<Outcome>, Error> {
    let settings = &harbor.settings;
    let today = serial_date(now);
    let old = with_members(harbor, zone.nameserver_set.as_deref().unwrap_or("host"))?;
    // The pattern moves along, so that the zone is not taken for a changed one afterwards.
    let pattern = zone.pattern.as_deref().map(|key| harbor.store.pattern(key)).transpose()?.flatten();
    let pattern = pattern.map(|made| Pattern {
        hostmaster: settings.hostmaster(&set.nameservers[0]),
        nameservers: set.nameservers.clone(),
        nameserver_addresses: set.addresses.clone(),
        ..made
    });
    let after = Zone { nameserver_set: to, pattern: pattern.as_ref().map(Pattern::key), ..zone.clone() };
    if after != *zone {
        changes.changes.extend(
            pattern.map(|pattern| brightharbor_core::change::Change::Inventory {
                to: InventoryChange::KnowPattern(pattern),
            }),
        );
    }
    let hostmaster = |set: &NameserverSet| set.nameservers.first().map(|primary| settings.hostmaster(primary));
    Ok(bring(harbor, zone, after, changes, |kept| {
        let (from, to) = (hostmaster(&old), hostmaster(set));
        let (Some(from), Some(to)) = (from, to) else { return Err(TemplateError::NoNameserver.into()) };
        // A set that the zone was never given glue for is no reason to stay with it.
        let before = delegated_to(&old, &from, &kept.document).or_else(|error| match error {
            TemplateError::NameserverAddress(_) => {
                let outside = NameserverSet { nameservers: old.nameservers.clone(), ..NameserverSet::default() };
                delegated_to(&outside, &from, &kept.document)
            }
            other => Err(other),
        })?;
        align(kept, &before, &delegated_to(set, &to, &kept.document)?, today)
    })
    .await)
}

struct Moved {
    changed: Changed,
    outcomes: Vec<Outcome>,
    zones: usize,
    to: String,
    set: NameserverSet,
}

impl Moved {
    fn refused(&self) -> usize {
        self.outcomes.iter().filter(|outcome| outcome.refused.is_some()).count()
    }

    fn moved(&self) -> usize {
        self.outcomes.iter().filter(|outcome| outcome.refused.is_none() && !outcome.merged.is_in_step()).count()
    }
}

impl Shown for Moved {
    fn human(&self, page: &mut Page) {
        let (moved, zones, to) = (self.moved(), self.zones, &self.to);
        page.heading(&match self.changed.entry {
            Some(_) => format!("{moved} of {zones} zones were moved to the nameserver set `{to}`."),
            None if self.changed.set.is_empty() => format!("All {zones} zones name the nameserver set `{to}` already."),
            None => format!("Nothing was done. {moved} of {zones} zones would be moved to the nameserver set `{to}`."),
        });
        show(page, &self.outcomes);
        if moved > 0 {
            page.blank();
            page.line("Then, at the registrar of each of these domains, set the nameservers:");
            for name in &self.set.nameservers {
                let addresses = self.set.addresses.get(name).map(Vec::as_slice).unwrap_or_default();
                let words = addresses.iter().map(ToString::to_string).collect::<Vec<_>>().join(" ");
                page.line(format!("  {} {words}", name.bare()).trim_end());
            }
            page.hanging("", "The old nameservers must go on answering until the old delegation has left all caches.");
        }
    }

    fn json(&self) -> Value {
        json!({
            "command": "zone move",
            "carried_out": self.changed.entry.is_some(),
            "change": json::ChangeDocument::from(&self.changed),
            "to": self.to,
            "nameservers": self.set.nameservers.iter().map(DnsName::bare).collect::<Vec<_>>(),
            "looked_at": self.zones,
            "zones": self.outcomes.iter().map(document).collect::<Vec<_>>(),
        })
    }

    /// What is left is the registrar's turn.
    fn exit(&self) -> Exit {
        match (self.refused(), self.moved(), self.changed.entry) {
            (1.., _, _) => Exit::Fault,
            (0, 1.., Some(_)) => Exit::Waits,
            _ => Exit::Done,
        }
    }
}

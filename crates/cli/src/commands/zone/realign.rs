//! `zone realign`: zones that differ from what their template and the settings give now, and bringing them in step.

use std::collections::{BTreeMap, BTreeSet};

use brightharbor_core::change::{ChangeSet, InventoryChange};
use brightharbor_core::name::Hostname;
use brightharbor_core::zone::{Pattern, serial_date};
use brightharbor_core::zone::{Zone, ZoneDesign, align, made_by};
use brightharbor_io::harbor::Harbor;
use brightharbor_io::install::read_if_there;
use clap::Args;
use jiff::Timestamp;
use serde_json::{Value, json};

use super::chosen::{Chosen, Outcome, bring, document, show};
use crate::commands::Report;
use crate::error::{Error, Exit};
use crate::options::ChangeOptions;
use crate::run::{Changed, Context, Decision, change};
use crate::show::human::Page;
use crate::show::{Shown, json};

/// Bring zones in step with a changed template, or with changed addresses in harbor.toml. Without zones: show which differ.
///
/// What somebody changed by hand stays as it is, and is named.
#[derive(Debug, Args)]
pub struct Realign {
    #[command(flatten)]
    chosen: Chosen,
    #[command(flatten)]
    options: ChangeOptions,
}

pub fn run(args: &Realign, context: &Context) -> Report {
    let options = ChangeOptions { dry_run: args.options.dry_run || !args.chosen.any(), ..args.options.clone() };
    let mut looked = Looked::default();
    let changed = context.block_on(change(context, "zone realign", &options, async |harbor, now| {
        looked = decide(harbor, args.chosen.zones(harbor)?, now).await?;
        Ok(Decision { set: std::mem::replace(&mut looked.set, ChangeSet::new("")), said: vec![] })
    }))??;
    Ok(Box::new(Realigned { changed, looked, chosen: args.chosen.any(), dry_run: args.options.dry_run }))
}

struct Looked {
    set: ChangeSet,
    outcomes: Vec<Outcome>,
    /// How many zones were looked at, and how many of them came from no template.
    zones: usize,
    without: usize,
}

impl Default for Looked {
    fn default() -> Self {
        Self { set: ChangeSet::new("zone realign"), outcomes: vec![], zones: 0, without: 0 }
    }
}

async fn decide(harbor: &Harbor, zones: Vec<Zone>, now: Timestamp) -> Result<Looked, Error> {
    let today = serial_date(now);
    let mut looked = Looked { zones: zones.len(), ..Looked::default() };
    let mut patterns = Patterns { harbor, of_today: BTreeMap::new() };
    let mut attached: Option<BTreeMap<Hostname, Vec<Hostname>>> = None;
    let mut known = BTreeSet::new();
    for zone in zones {
        let Some(old) = zone.pattern.as_deref().map(|key| harbor.store.pattern(key)).transpose()?.flatten() else {
            looked.without += 1;
            continue;
        };
        let new = patterns.today(&old, &zone)?;
        // Most zones are told by this alone, without reading their files.
        if new.key() == old.key() {
            continue;
        }
        if attached.is_none() {
            attached = Some(by_zone(harbor)?);
        }
        let names = attached.as_ref().and_then(|all| all.get(&zone.name)).map(Vec::as_slice).unwrap_or_default();
        let after = Zone { pattern: Some(new.key()), ..zone.clone() };
        if known.insert(new.key()) {
            looked.set.inventory(InventoryChange::KnowPattern(new.clone()));
        }
        let outcome = bring(harbor, &zone, after, &mut looked.set, |kept| {
            let before = made_by(&old, &zone.name, names, &kept.document)?;
            let now = made_by(&new, &zone.name, names, &kept.document)?;
            align(kept, &before, &now, today)
        });
        looked.outcomes.extend(outcome.await);
    }
    Ok(looked)
}

/// What zones of the same kind get today, read once each.
struct Patterns<'a> {
    harbor: &'a Harbor,
    of_today: BTreeMap<(String, Option<String>), Pattern>,
}

impl Patterns<'_> {
    fn today(&mut self, old: &Pattern, zone: &Zone) -> Result<Pattern, Error> {
        let key = (old.key(), zone.nameserver_set.clone());
        if let Some(pattern) = self.of_today.get(&key) {
            return Ok(pattern.clone());
        }
        let design = ZoneDesign {
            template: old.template.clone(),
            mail: old.mail.clone(),
            nameserver_set: zone.nameserver_set.clone(),
        };
        let file = read_if_there(&self.harbor.layout.zone_template(&design.template))?;
        let pattern = design.pattern(file.as_deref(), &self.harbor.settings)?;
        self.of_today.insert(key, pattern.clone());
        Ok(pattern)
    }
}

/// The attached hostnames, by the zone that holds them.
fn by_zone(harbor: &Harbor) -> Result<BTreeMap<Hostname, Vec<Hostname>>, Error> {
    let zones: BTreeSet<Hostname> = harbor.store.zones()?.into_iter().map(|zone| zone.name).collect();
    let mut all: BTreeMap<Hostname, Vec<Hostname>> = BTreeMap::new();
    for hostname in harbor.store.hostnames()? {
        let holder = std::iter::once(hostname.clone()).chain(hostname.ancestors()).find(|name| zones.contains(name));
        if let Some(zone) = holder {
            all.entry(zone).or_default().push(hostname);
        }
    }
    Ok(all)
}

struct Realigned {
    changed: Changed,
    looked: Looked,
    chosen: bool,
    dry_run: bool,
}

impl Realigned {
    fn differ(&self) -> usize {
        self.looked.outcomes.iter().filter(|outcome| outcome.refused.is_none() && !outcome.merged.is_in_step()).count()
    }

    fn refused(&self) -> usize {
        self.looked.outcomes.iter().filter(|outcome| outcome.refused.is_some()).count()
    }
}

impl Shown for Realigned {
    fn human(&self, page: &mut Page) {
        let (differ, zones) = (self.differ(), self.looked.zones);
        page.heading(&match (self.changed.entry.is_some(), differ + self.refused()) {
            (_, 0) => format!("All zones are in step with their templates and the settings ({zones} looked at)."),
            (true, _) => format!("{differ} of {zones} zones were brought in step."),
            (false, _) => {
                format!("{differ} of {zones} zones differ from what their templates and the settings give now.")
            }
        });
        if self.looked.without > 0 {
            let text = format!("{} came as they are, from no template: they are left alone", self.looked.without);
            page.hanging("note: ", &text);
        }
        show(page, &self.looked.outcomes);
        if self.changed.entry.is_none() && differ > 0 {
            page.blank();
            let how = "to bring them in step: brightharbor zone realign --all, or with the names of some";
            page.hanging("Nothing was done; ", if self.chosen && self.dry_run { "this was a dry run" } else { how });
        }
    }

    fn json(&self) -> Value {
        json!({
            "command": "zone realign",
            "carried_out": self.changed.entry.is_some(),
            "change": json::ChangeDocument::from(&self.changed),
            "looked_at": self.looked.zones,
            "from_no_template": self.looked.without,
            "zones": self.looked.outcomes.iter().map(document).collect::<Vec<_>>(),
        })
    }

    fn exit(&self) -> Exit {
        match (self.refused(), self.changed.entry, self.differ()) {
            (1.., _, _) => Exit::Fault,
            (0, None, 1..) => Exit::Waits,
            _ => Exit::Done,
        }
    }
}

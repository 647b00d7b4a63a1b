//! `nameserver list` and `nameserver show`.

use brightharbor_core::harbor::NameserverSet;
use brightharbor_core::nameserver::weaknesses;
use brightharbor_core::zone::Zone;
use clap::Args;
use serde_json::{Value, json};

use crate::commands::{Report, find_set};
use crate::error::Exit;
use crate::narrowed::{Narrowed, WithText};
use crate::run::Context;
use crate::show::human::Page;
use crate::show::words::weakness;
use crate::show::{Shown, counted};

/// List the nameserver sets, with how many domains use each.
#[derive(Debug, Args)]
pub struct List {
    #[command(flatten)]
    with: WithText,
}

/// Show one nameserver set, with the domains that use it.
#[derive(Debug, Args)]
pub struct Show {
    /// The set; `host` for that of [host] in harbor.toml.
    set: String,
}

pub fn run(args: &List, context: &Context) -> Report {
    let harbor = context.open()?;
    let mut rows = Vec::new();
    if !harbor.settings.host.nameservers.is_empty() {
        let set = harbor.settings.nameserver_set(None).unwrap_or_default();
        rows.push(("host".to_string(), set, harbor.store.zones_with_set(None)?));
    }
    for (name, set) in &harbor.settings.nameserver_sets {
        rows.push((name.clone(), set.clone(), harbor.store.zones_with_set(Some(name))?));
    }
    let of = rows.len();
    Ok(Box::new(Sets { sets: args.with.narrow(rows, of, cells) }))
}

pub fn show(args: &Show, context: &Context) -> Report {
    let harbor = context.open()?;
    let set = find_set(&harbor, &args.set)?;
    let wanted = (args.set != "host").then_some(args.set.as_str());
    let mut zones: Vec<Zone> = harbor.store.zones()?;
    zones.retain(|zone| zone.nameserver_set.as_deref() == wanted);
    Ok(Box::new(SetPage { name: args.set.clone(), set, zones }))
}

struct Sets {
    sets: Narrowed<(String, NameserverSet, u32)>,
}

fn cells((name, set, domains): &(String, NameserverSet, u32)) -> Vec<String> {
    let of = set.capacity.map(|capacity| format!(" of {capacity}")).unwrap_or_default();
    vec![
        name.clone(),
        set.nameservers.iter().map(|name| name.bare()).collect::<Vec<_>>().join(", "),
        set.account.as_ref().map_or("everybody".into(), ToString::to_string),
        format!("{domains}{of}"),
    ]
}

impl Shown for Sets {
    fn human(&self, page: &mut Page) {
        let none = "No nameserver sets yet. Add one: brightharbor nameserver add SET NAME=ADDRESS...";
        self.sets.show(page, "set", none, &["set", "nameservers", "for", "domains"], cells);
    }

    fn json(&self) -> Value {
        let rows = self.sets.rows.iter();
        let sets: Vec<Value> = rows.map(|(name, set, domains)| super::document(name, set, *domains)).collect();
        let mut document = json!({ "command": "nameserver list", "sets": sets });
        self.sets.counts_into(&mut document);
        document
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}

struct SetPage {
    name: String,
    set: NameserverSet,
    zones: Vec<Zone>,
}

/// Domains that are named on the page; the rest is counted.
const MOST_NAMED: usize = 20;

impl Shown for SetPage {
    fn human(&self, page: &mut Page) {
        let set = &self.set;
        let whose = set.account.as_ref().map_or("for everybody".into(), |account| format!("for {account} alone"));
        page.heading(&format!("{}: {whose}", self.name));
        for name in &set.nameservers {
            let addresses = set.addresses.get(name).map(Vec::as_slice).unwrap_or_default();
            let shown = addresses.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
            let shown = if shown.is_empty() { "no address given here".to_string() } else { shown };
            page.hanging(&format!("  {:<30}  ", name.bare()), &shown);
        }
        weaknesses(set).iter().for_each(|one| page.hanging("  note: ", &weakness(one).sentence()));
        let left = set
            .capacity
            .map(|capacity| format!(", room for {} more", capacity.saturating_sub(self.zones.len() as u32)));
        page.line(&format!("  {}{}", counted(self.zones.len(), "domain"), left.unwrap_or_default()));
        for zone in self.zones.iter().take(MOST_NAMED) {
            page.line(&format!("    {}", zone.name));
        }
        if self.zones.len() > MOST_NAMED {
            page.line(&format!("    and {} more", self.zones.len() - MOST_NAMED));
        }
    }

    fn json(&self) -> Value {
        let mut document = super::document(&self.name, &self.set, self.zones.len() as u32);
        document["zones"] = self.zones.iter().map(|zone| zone.name.as_str()).collect::<Vec<_>>().into();
        document["weaknesses"] = weaknesses(&self.set).iter().map(|one| weakness(one).document(true)).collect();
        json!({ "command": "nameserver show", "set": document })
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}

//! `zone move`: NS records and start of authority of zones to another nameserver set.

use brightharbor_core::harbor::NameserverSet;
use brightharbor_core::name::{DnsName, Hostname};
use brightharbor_core::zone::{Movable, Record, RecordType, ZoneOutcome, move_zones, show_seconds};
use brightharbor_io::load;
use clap::Args;
use serde_json::{Value, json};

use super::chosen::{Chosen, document, show};
use crate::commands::{Report, find_set};
use crate::error::{Error, Exit};
use crate::options::ChangeOptions;
use crate::run::{Carried, Context, change};
use crate::show::human::Page;
use crate::show::{Shown, counted, json};

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
        return Err(Error::wrong_use("no zone was named").advice("name zones, or give --account or --all"));
    }
    let to = if args.to == "host" { None } else { Some(args.to.as_str()) };
    let title = format!("zone move --to {}", args.to);
    let (carried, moved) = context.block_on(change(context, &title, &args.options, async |overlay, now| {
        let set = find_set(overlay, &args.to)?;
        let movable = load::movable(overlay, args.chosen.zones(overlay)?).await?;
        let zones = movable.len();
        let unprepared = movable.iter().find_map(|one| long_cached(one).map(|ttl| (one.zone.name.clone(), ttl)));
        let (plan, outcomes) = move_zones(&movable, to, &set, &overlay.settings, now)?;
        Ok((plan, (set, zones, outcomes, unprepared)))
    }))??;
    let (set, zones, outcomes, unprepared) = moved;
    Ok(Box::new(Moved { carried, outcomes, zones, to: args.to.clone(), set, unprepared }))
}

/// For how long resolvers keep the nameservers of a zone, if that is worth preparing the move for; in seconds.
fn long_cached(movable: &Movable) -> Option<u32> {
    const LONG: u32 = 600;
    let document = &movable.read.as_ref().ok()?.document;
    let of_apex = |record: &&Record| record.owner == *document.origin() && record.record_type() == RecordType::NS;
    document.records().filter(of_apex).map(|record| record.ttl).max().filter(|ttl| *ttl > LONG)
}

struct Moved {
    carried: Carried,
    outcomes: Vec<ZoneOutcome>,
    zones: usize,
    to: String,
    set: NameserverSet,
    /// A zone whose nameservers are cached for long, with the seconds.
    unprepared: Option<(Hostname, u32)>,
}

impl Moved {
    fn refused(&self) -> usize {
        self.outcomes.iter().filter(|outcome| outcome.left.is_some()).count()
    }

    fn moved(&self) -> usize {
        self.outcomes.iter().filter(|outcome| outcome.left.is_none() && !outcome.merged.is_in_step()).count()
    }
}

impl Shown for Moved {
    fn human(&self, page: &mut Page) {
        let (moved, zones, to) = (self.moved(), self.zones, &self.to);
        page.heading(&match self.carried.entry {
            Some(_) if moved == 0 && self.refused() == 0 => {
                format!("{} now with nameserver set `{to}`; their records stay as they are.", counted(zones, "zone"))
            }
            Some(_) => format!("Moved {moved} of {zones} zones to nameserver set `{to}`."),
            None if self.carried.plan.is_empty() => format!("All {zones} zones already use nameserver set `{to}`."),
            None => {
                format!("Dry run: nothing was changed. Would move {moved} of {zones} zones to nameserver set `{to}`.")
            }
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
            page.hanging(
                "",
                "The old nameservers must keep answering until the old delegation has expired from all caches.",
            );
            if let Some((zone, ttl)) = &self.unprepared {
                let kept = show_seconds((*ttl).into());
                let words = format!(
                    "Resolvers keep the old nameservers for up to {kept}; to shorten that before a move: brightharbor zone \
                     prepare-move {zone}"
                );
                page.hanging("", &words);
            }
        }
    }

    fn json(&self) -> Value {
        json!({
            "command": "zone move",
            "carried_out": self.carried.entry.is_some(),
            "change": json::ChangeDocument::from(&self.carried),
            "to": self.to,
            "nameservers": self.set.nameservers.iter().map(DnsName::bare).collect::<Vec<_>>(),
            "looked_at": self.zones,
            "zones": self.outcomes.iter().map(document).collect::<Vec<_>>(),
        })
    }

    /// What is left is the registrar's turn.
    fn exit(&self) -> Exit {
        match (self.refused(), self.moved()) {
            (1.., _) => Exit::Fault,
            (0, 1..) => Exit::Waits,
            _ => Exit::Done,
        }
    }
}

//! `zone prepare-move`: times to live lowered ahead of a move, and put back afterwards. A domain whose zone the world gets
//! from somebody else is prepared there: what is to be lowered is named.

use std::collections::BTreeMap;

use brightharbor_core::name::{DnsName, Hostname};
use brightharbor_core::zone::{
    RecordType, Zone, ZoneHome, prepare_move, put_back, ready_at, set_words, show_seconds, ttls,
};
use brightharbor_io::clock;
use brightharbor_io::harbor::Harbor;
use brightharbor_io::load::{ZoneCompared, compare_zone};
use clap::Args;
use jiff::Timestamp;
use serde_json::{Value, json};

use super::source::find;
use crate::commands::Report;
use crate::duration::parse_duration;
use crate::error::{Error, Exit};
use crate::options::ChangeOptions;
use crate::run::{Context, change};
use crate::show::human::{Page, table, when};
use crate::show::{ChangeReport, Shown};

/// Lower the times to live of a zone before its servers or addresses move, and put them back afterwards.
///
/// Says from when on the move costs little: once nothing older is cached. What is edited in between stays.
#[derive(Debug, Args)]
pub struct PrepareMove {
    /// The zone.
    zone: String,
    /// The time to live until the move (seconds, or as 5m).
    #[arg(long, value_name = "DURATION", default_value = "5m", conflicts_with = "back")]
    ttl: String,
    /// Put back the times that were lowered.
    #[arg(long)]
    back: bool,
    #[command(flatten)]
    options: ChangeOptions,
}

pub fn run(args: &PrepareMove, context: &Context) -> Report {
    let ttl = parse_duration(&args.ttl, "give it as 300, 5m or 1h")?.as_secs();
    let ttl = u32::try_from(ttl).ok().filter(|ttl| *ttl > 0 && *ttl <= 0x7fff_ffff).ok_or_else(|| {
        Error::wrong_use(format!("`{}` is no time to live", args.ttl.escape_debug())).advice("give it as 300, 5m or 1h")
    })?;
    if !args.back {
        let harbor = context.open()?;
        let zone = find(&harbor, &args.zone)?;
        if let Some(elsewhere) = longer_elsewhere(&harbor, &zone, ttl, context)? {
            return Ok(Box::new(elsewhere));
        }
    }
    let title = format!("zone prepare-move {}{}", args.zone, if args.back { " --back" } else { "" });
    let (carried, ()) = context.block_on(change(context, &title, &args.options, async |overlay, now| {
        let kept = overlay.read_zone(&find(overlay, &args.zone)?).await?;
        let plan = if args.back { put_back(&kept, now)? } else { prepare_move(&kept, ttl, now)? };
        Ok((plan, ()))
    }))??;
    Ok(Box::new(ChangeReport { command: "zone prepare-move", carried }))
}

/// What the world gets from somebody else, and caches for longer. A zone here that says the same has its servers there.
fn longer_elsewhere(harbor: &Harbor, zone: &Zone, ttl: u32, context: &Context) -> Result<Option<Elsewhere>, Error> {
    if zone.home != ZoneHome::Here {
        return Ok(None);
    }
    context.progress.doing(&format!("looking at what the world is answered for {}", zone.name));
    let compared = context.block_on(compare_zone(harbor, zone, &[]))??;
    let ZoneCompared::Differs { there, differences } = compared else { return Ok(None) };
    if differences.is_empty() {
        return Ok(None);
    }
    let mut longer = ttls(&there.records);
    longer.retain(|_, known| *known > ttl);
    let at = ready_at(longer.values(), clock::now());
    Ok(Some(Elsewhere { zone: zone.name.clone(), origin: there.origin, longer, ttl, at }))
}

/// What is to be lowered by whoever keeps the zone that the world uses.
struct Elsewhere {
    zone: Hostname,
    origin: DnsName,
    longer: BTreeMap<(DnsName, RecordType), u32>,
    ttl: u32,
    at: Timestamp,
}

impl Shown for Elsewhere {
    fn human(&self, page: &mut Page) {
        let (zone, ttl) = (&self.zone, show_seconds(self.ttl.into()));
        if self.longer.is_empty() {
            let words = "the world gets it from somebody else, and nothing there is cached for longer than";
            return page.hanging("", &format!("{zone}: {words} {ttl}."));
        }
        page.heading(&format!("{zone}: the world gets it from somebody else; nothing was changed"));
        let words = format!(
            "Whoever keeps it there lowers these times to live to {ttl}. Once that is done, wait until {} before you move it.",
            when(self.at, clock::now())
        );
        page.hanging("", &words);
        page.blank();
        let rows = self
            .longer
            .iter()
            .map(|((owner, kind), ttl)| vec![set_words(owner, *kind, &self.origin), show_seconds((*ttl).into())]);
        table(page, &["records", "now"], rows.collect());
    }

    fn json(&self) -> Value {
        let longer = self
            .longer
            .iter()
            .map(|((owner, kind), ttl)| json!({ "owner": owner.bare(), "type": kind.to_string(), "ttl": ttl }));
        json!({
            "command": "zone prepare-move",
            "zone": self.zone,
            "kept": "elsewhere",
            "ttl": self.ttl,
            "ready_at": self.at.to_string(),
            "to_lower": longer.collect::<Vec<_>>(),
        })
    }

    fn exit(&self) -> Exit {
        if self.longer.is_empty() { Exit::Done } else { Exit::Waits }
    }
}

//! `zone realign`: zones that differ from what their template and the settings give now, and bringing them in step.

use brightharbor_core::zone::{ZoneOutcome, realign};
use brightharbor_io::load;
use clap::Args;
use serde_json::{Value, json};

use super::chosen::{Chosen, document, show};
use crate::commands::Report;
use crate::error::Exit;
use crate::options::ChangeOptions;
use crate::run::{Carried, Context, change};
use crate::show::human::Page;
use crate::show::{Shown, counted, json};

/// Update zones to a changed template, or to changed addresses in harbor.toml. Without zones: show which differ.
///
/// What was edited by hand stays as it is, and is named.
#[derive(Debug, Args)]
pub struct Realign {
    #[command(flatten)]
    chosen: Chosen,
    #[command(flatten)]
    options: ChangeOptions,
}

pub fn run(args: &Realign, context: &Context) -> Report {
    let options = ChangeOptions { dry_run: args.options.dry_run || !args.chosen.any(), ..args.options.clone() };
    let (carried, looked) = context.block_on(change(context, "zone realign", &options, async |overlay, now| {
        let zones = args.chosen.zones(overlay)?;
        let looked_at = zones.len();
        let (realignable, without) = load::realignable(overlay, zones).await??;
        let (plan, outcomes) = realign(&realignable, now);
        Ok((plan, Looked { outcomes, zones: looked_at, without }))
    }))??;
    Ok(Box::new(Realigned { carried, looked, chosen: args.chosen.any(), dry_run: args.options.dry_run }))
}

struct Looked {
    outcomes: Vec<ZoneOutcome>,
    /// How many zones were looked at, and how many of them came from no template.
    zones: usize,
    without: usize,
}

struct Realigned {
    carried: Carried,
    looked: Looked,
    chosen: bool,
    dry_run: bool,
}

impl Realigned {
    fn differ(&self) -> usize {
        self.looked.outcomes.iter().filter(|outcome| outcome.left.is_none() && !outcome.merged.is_in_step()).count()
    }

    fn refused(&self) -> usize {
        self.looked.outcomes.iter().filter(|outcome| outcome.left.is_some()).count()
    }
}

impl Shown for Realigned {
    fn human(&self, page: &mut Page) {
        // Those that came from no template match none.
        let (differ, zones, from_template) =
            (self.differ(), self.looked.zones, self.looked.zones - self.looked.without);
        page.heading(&match (self.carried.entry.is_some(), differ, self.refused()) {
            (_, 0, 0) if from_template == 0 => "No zone came from a template; there is nothing to update.".into(),
            (_, 0, 0) => format!("All zones match their templates and the settings ({from_template} checked)."),
            (_, 0, refused) => format!("{} could not be compared with its template.", counted(refused, "zone")),
            (true, _, _) => format!("Updated {differ} of {zones} zones."),
            (false, _, _) => {
                format!("{differ} of {zones} zones differ from what their templates and the settings give now.")
            }
        });
        if self.looked.without > 0 {
            let text = match self.looked.without {
                1 => "1 zone came from no template and is not changed".to_string(),
                count => format!("{count} zones came from no template and are not changed"),
            };
            page.hanging("note: ", &text);
        }
        show(page, &self.looked.outcomes);
        if self.carried.entry.is_none() && differ > 0 {
            page.blank();
            let how = "to update them: brightharbor zone realign --all, or with zone names";
            page.hanging("Nothing was changed; ", if self.chosen && self.dry_run { "this was a dry run" } else { how });
        }
    }

    fn json(&self) -> Value {
        json!({
            "command": "zone realign",
            "carried_out": self.carried.entry.is_some(),
            "change": json::ChangeDocument::from(&self.carried),
            "looked_at": self.looked.zones,
            "from_no_template": self.looked.without,
            "zones": self.looked.outcomes.iter().map(document).collect::<Vec<_>>(),
        })
    }

    fn exit(&self) -> Exit {
        match (self.refused(), self.carried.entry, self.differ()) {
            (1.., _, _) => Exit::Fault,
            (0, None, 1..) => Exit::Waits,
            _ => Exit::Done,
        }
    }
}

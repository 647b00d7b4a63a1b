//! `plan list` and `plan show`.

use brightharbor_core::account::{AccountPlan, Counted};
use clap::Args;
use serde_json::{Value, json};

use crate::commands::{Report, find_plan};
use crate::error::Exit;
use crate::run::Context;
use crate::show::Shown;
use crate::show::human::{Page, list};
use crate::show::words::{limit_words, limits_document};

/// List the plans.
#[derive(Debug, Args)]
pub struct List {}

/// Show one plan.
#[derive(Debug, Args)]
pub struct Show {
    /// The plan.
    name: String,
}

pub fn run(_: &List, context: &Context) -> Report {
    Ok(Box::new(Plans { command: "plan list", plans: context.open()?.store.plans()? }))
}

pub fn show(args: &Show, context: &Context) -> Report {
    Ok(Box::new(Plans { command: "plan show", plans: vec![find_plan(&context.open()?, &args.name)?] }))
}

struct Plans {
    command: &'static str,
    plans: Vec<AccountPlan>,
}

impl Shown for Plans {
    fn human(&self, page: &mut Page) {
        if self.plans.is_empty() {
            return page.line("No plans: accounts may have any number of everything.");
        }
        let row = |plan: &AccountPlan| {
            let mut row = vec![plan.name.to_string()];
            row.extend(Counted::ALL.map(|counted| limit_words(plan.limits.of(counted))));
            row.push(plan.limits.disk.map_or_else(|| "any".into(), |mib| format!("{mib} MiB")));
            row.push(match (plan.limits.scripts, plan.limits.script_memory) {
                (None, None) => "as set".into(),
                (Some(count), None) => count.to_string(),
                (None, Some(mib)) => format!("{mib} MiB each"),
                (Some(count), Some(mib)) => format!("{count}, {mib} MiB each"),
            });
            row
        };
        let mut headings = vec!["plan"];
        headings.extend(Counted::ALL.map(Counted::words));
        headings.extend(["disk", "scripts"]);
        list(page, &headings, self.plans.iter().map(row).collect());
    }

    fn json(&self) -> Value {
        let plan = |plan: &AccountPlan| json!({ "name": plan.name, "limits": limits_document(&plan.limits) });
        json!({ "command": self.command, "plans": self.plans.iter().map(plan).collect::<Vec<_>>() })
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}

//! `plan list` and `plan show`.

use brightharbor_core::account::{AccountPlan, Counted};
use clap::Args;
use serde_json::{Value, json};

use crate::commands::{Report, find_plan};
use crate::error::Exit;
use crate::narrowed::{Narrowed, WithText};
use crate::run::Context;
use crate::show::Shown;
use crate::show::human::{Page, list};
use crate::show::words::{limit_words, limits_document};

/// List the plans.
#[derive(Debug, Args)]
pub struct List {
    #[command(flatten)]
    with: WithText,
}

/// Show one plan.
#[derive(Debug, Args)]
pub struct Show {
    /// The plan.
    name: String,
}

pub fn run(args: &List, context: &Context) -> Report {
    let plans = context.open()?.store.plans()?;
    let of = plans.len();
    Ok(Box::new(Plans(args.with.narrow(plans, of, cells))))
}

pub fn show(args: &Show, context: &Context) -> Report {
    Ok(Box::new(OnePlan(find_plan(&context.open()?, &args.name)?)))
}

struct Plans(Narrowed<AccountPlan>);

struct OnePlan(AccountPlan);

fn headings() -> Vec<&'static str> {
    let mut headings = vec!["plan"];
    headings.extend(Counted::ALL.map(Counted::words));
    headings.extend(["disk", "scripts"]);
    headings
}

fn cells(plan: &AccountPlan) -> Vec<String> {
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
}

fn document(plan: &AccountPlan) -> Value {
    json!({ "name": plan.name, "limits": limits_document(&plan.limits) })
}

impl Shown for Plans {
    fn human(&self, page: &mut Page) {
        let none = "No plans: accounts may have any number of everything.";
        self.0.show(page, "plan", none, &headings(), cells);
    }

    fn json(&self) -> Value {
        let plans: Vec<Value> = self.0.rows.iter().map(document).collect();
        let mut document = json!({ "command": "plan list", "plans": plans });
        self.0.counts_into(&mut document);
        document
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}

impl Shown for OnePlan {
    fn human(&self, page: &mut Page) {
        list(page, &headings(), vec![cells(&self.0)]);
    }

    fn json(&self) -> Value {
        json!({ "command": "plan show", "plans": [document(&self.0)] })
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}

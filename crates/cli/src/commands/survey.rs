//! `survey`: the six links of hostnames, as a visitor meets them. Changes nothing.

use std::net::IpAddr;

use brightharbor_core::name::Hostname;
use brightharbor_core::survey::Survey as Links;
use clap::Args;
use serde_json::{Value, json};

use crate::commands::attach::exit_of;
use crate::commands::{Report, host};
use crate::error::{Error, Exit};
use crate::look::look;
use crate::run::Context;
use crate::show::human::{self, Page};
use crate::show::{Shown, json};

/// Walk the six links of a hostname as a visitor would; say where it stops, why, and whose turn it is.
#[derive(Debug, Args)]
pub struct Survey {
    /// Hostnames, attached here or not.
    #[arg(required = true)]
    hostnames: Vec<String>,
    /// Look for the web server at this address, before the names lead there.
    #[arg(long, value_name = "ADDRESS")]
    at: Option<IpAddr>,
}

pub fn run(args: &Survey, context: &Context) -> Report {
    let names: Vec<Hostname> = args.hostnames.iter().map(|typed| host(typed)).collect::<Result<_, _>>()?;
    let harbor = context.open()?;
    let surveys = context.block_on(async {
        let mut surveys = Vec::new();
        for name in &names {
            context.progress.doing(&format!("walking the links of {name}"));
            surveys.extend(look(&harbor, name, std::slice::from_ref(name), args.at).await?.surveys);
        }
        Ok::<_, Error>(surveys)
    })??;
    Ok(Box::new(Surveyed { surveys }))
}

struct Surveyed {
    surveys: Vec<Links>,
}

impl Shown for Surveyed {
    fn human(&self, page: &mut Page) {
        human::surveys(page, &self.surveys);
    }

    fn json(&self) -> Value {
        let surveys: Vec<_> = self.surveys.iter().map(json::SurveyDocument::from).collect();
        json!({ "command": "survey", "surveys": surveys })
    }

    fn exit(&self) -> Exit {
        let open = self.surveys.iter().any(|survey| !survey.all_hold());
        exit_of(&self.surveys, if open { Exit::Waits } else { Exit::Done })
    }
}

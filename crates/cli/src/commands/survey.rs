//! `survey`: the six links of hostnames, as a visitor meets them. Changes nothing.

use std::net::IpAddr;

use brightharbor_core::harbor::ServerAddress;
use brightharbor_core::name::Host;
use brightharbor_core::survey::{Spread, Survey as Links};
use brightharbor_io::look::look;
use clap::Args;
use serde_json::{Value, json};

use crate::commands::{Report, host};
use crate::error::{Error, Exit};

use crate::run::Context;
use crate::show::human::{self, Page};
use crate::show::{Shown, exit_of, json};

/// Walk the six links of a hostname as a visitor would; say where it stops, why, and whose turn it is.
#[derive(Debug, Args)]
pub struct Survey {
    /// Hostnames, attached here or not.
    #[arg(required = true)]
    hostnames: Vec<String>,
    /// Look for the web server at this address, before the names lead there.
    #[arg(long, value_name = "ADDRESS")]
    at: Option<IpAddr>,
    /// Ask these resolvers, and show how far a change has spread among them.
    #[arg(long, value_name = "ADDRESS[:PORT],...", value_delimiter = ',')]
    resolvers: Vec<ServerAddress>,
}

pub fn run(args: &Survey, context: &Context) -> Report {
    let names: Vec<Host> = args.hostnames.iter().map(|typed| host(typed)).collect::<Result<_, _>>()?;
    let mut harbor = context.open()?;
    if !args.resolvers.is_empty() {
        harbor.settings.internet.resolvers = args.resolvers.clone();
    }
    let (surveys, spreads) = context.block_on(async {
        let (mut surveys, mut spreads) = (Vec::new(), Vec::new());
        for name in &names {
            context.progress.doing(&format!("walking the links of {name}"));
            let looked = look(&harbor, std::slice::from_ref(name), args.at).await?;
            if !args.resolvers.is_empty() {
                spreads.extend(looked.spreads(&harbor)?);
            }
            surveys.extend(looked.surveys);
        }
        Ok::<_, Error>((surveys, spreads))
    })??;
    Ok(Box::new(Surveyed { surveys, spreads }))
}

struct Surveyed {
    surveys: Vec<Links>,
    /// Only where resolvers were named.
    spreads: Vec<Spread>,
}

impl Shown for Surveyed {
    fn human(&self, page: &mut Page) {
        human::surveys(page, &self.surveys);
        self.spreads.iter().for_each(|spread| human::spread(page, spread));
    }

    fn json(&self) -> Value {
        let surveys: Vec<_> = self.surveys.iter().map(json::SurveyDocument::from).collect();
        json!({
            "command": "survey",
            "surveys": surveys,
            "spreads": self.spreads.iter().map(json::SpreadDocument::from).collect::<Vec<_>>(),
        })
    }

    fn exit(&self) -> Exit {
        let open = self.surveys.iter().any(|survey| !survey.all_hold());
        exit_of(&self.surveys, if open { Exit::Waits } else { Exit::Done })
    }
}

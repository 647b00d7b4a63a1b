//! `record replace`: all records of a name and type give way to others.

use brightharbor_core::zone::Alteration;
use clap::Args;

use super::alter::{Asked, Where, run_alteration, ttl};
use crate::commands::Report;
use crate::options::ChangeOptions;
use crate::run::Context;

/// Put records in place of all that a name has of the type.
#[derive(Debug, Args)]
pub struct Replace {
    /// A label, `@` for the zone itself, or a full name.
    owner: String,
    /// The type, such as A, MX or TXT.
    record_type: String,
    /// The new data, one argument a record.
    #[arg(required = true)]
    data: Vec<String>,
    /// How long answers may be cached: seconds, or as 1h30m. By default as before.
    #[arg(long)]
    ttl: Option<String>,
    #[command(flatten)]
    place: Where,
    #[command(flatten)]
    options: ChangeOptions,
}

pub fn run(args: &Replace, context: &Context) -> Report {
    let ttl = ttl(args.ttl.as_deref())?;
    let asked = Asked { verb: "replace", owner: &args.owner, record_type: &args.record_type, data: &args.data };
    run_alteration(&asked, &args.place, &args.options, context, |data| Alteration::Replace { ttl, data })
}

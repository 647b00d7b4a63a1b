//! `record add`: one or more records at a name.

use brightharbor_core::zone::Alteration;
use clap::Args;

use super::alter::{Asked, Where, run_alteration, ttl};
use crate::commands::Report;
use crate::options::ChangeOptions;
use crate::run::Context;

/// Add records to a zone. Refuses what would break it.
#[derive(Debug, Args)]
pub struct Add {
    /// A label, `@` for the zone itself, or a full name.
    owner: String,
    /// The type, such as A, MX or TXT.
    record_type: String,
    /// The data, one argument a record: 192.0.2.7, "10 mail", "v=spf1 mx -all".
    #[arg(required = true)]
    data: Vec<String>,
    /// How long answers may be cached: seconds, or as 1h30m. By default as the other records of the name and type,
    /// else as the zone says.
    #[arg(long)]
    ttl: Option<String>,
    #[command(flatten)]
    place: Where,
    #[command(flatten)]
    options: ChangeOptions,
}

pub fn run(args: &Add, context: &Context) -> Report {
    let ttl = ttl(args.ttl.as_deref())?;
    let asked = Asked { verb: "add", owner: &args.owner, record_type: &args.record_type, data: &args.data };
    run_alteration(&asked, &args.place, &args.options, context, |data| Alteration::Add { ttl, data })
}

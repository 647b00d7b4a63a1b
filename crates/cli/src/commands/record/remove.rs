//! `record remove`: takes records of a name and type away.

use brightharbor_core::zone::Alteration;
use clap::Args;

use super::alter::{Asked, Manner, run_alteration};
use crate::commands::Report;
use crate::run::Context;

/// Remove records from a zone: those with the data given, or all of the name and type.
#[derive(Debug, Args)]
pub struct Remove {
    /// A label, `@` for the zone itself, or a full name.
    owner: String,
    /// The type, such as A, MX or TXT.
    record_type: String,
    /// The data of the records to remove, one argument a record; without any, all of them.
    data: Vec<String>,
    #[command(flatten)]
    manner: Manner,
}

pub fn run(args: &Remove, context: &Context) -> Report {
    let asked = Asked { verb: "remove", owner: &args.owner, record_type: &args.record_type, data: &args.data };
    run_alteration(&asked, &args.manner, context, |data| Alteration::Remove { data })
}

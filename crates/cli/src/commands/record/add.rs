//! `record add`: one or more records at a name.

use brightharbor_core::zone::Alteration;
use clap::Args;

use super::alter::{Written, run_alteration};
use crate::commands::Report;
use crate::run::Context;

/// Add records to a zone. Refuses what would break it.
#[derive(Debug, Args)]
pub struct Add {
    #[command(flatten)]
    written: Written,
}

pub fn run(args: &Add, context: &Context) -> Report {
    let (written, ttl) = (&args.written, args.written.ttl()?);
    run_alteration(&written.asked("add"), &written.manner, context, |data| Alteration::Add { ttl, data })
}

//! `record replace`: all records of a name and type give way to others.

use brightharbor_core::zone::Alteration;
use clap::Args;

use super::alter::{Written, run_alteration};
use crate::commands::Report;
use crate::run::Context;

/// Put records in place of all that a name has of the type.
#[derive(Debug, Args)]
pub struct Replace {
    #[command(flatten)]
    written: Written,
}

pub fn run(args: &Replace, context: &Context) -> Report {
    let (written, ttl) = (&args.written, args.written.ttl()?);
    run_alteration(&written.asked("replace"), &written.manner, context, |data| Alteration::Replace { ttl, data })
}

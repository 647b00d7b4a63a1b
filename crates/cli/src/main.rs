//! `brightharbor`: the only crate that prints or exits. Arguments in, a report and an exit code out.
//!
//! To find your way: `args` is what can be typed, `commands/` has one thin file a command, `run` the steps they all
//! share, `show/` what is printed.

mod args;
mod attaching;
mod commands;
mod completing;
mod content;
mod demanding;
mod design;
mod detaching;
mod duration;
mod error;
mod events;
mod files;
mod help;
mod journal;
mod judging;
mod loading;
mod narrowed;
mod network;
mod options;
mod redirecting;
mod run;
mod settings;
mod show;
mod suggest;
mod surveying;
mod usage;
mod zone_states;

use std::process::ExitCode;

use clap::FromArgMatches;

/// A walk through 10,000 domains allocates all over: with the system's allocator a quarter of its time goes there.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() -> ExitCode {
    if completing::complete() {
        return ExitCode::SUCCESS;
    }
    let parsed = help::command().try_get_matches();
    let args = match parsed.and_then(|mut matches| args::Args::from_arg_matches_mut(&mut matches)) {
        Ok(args) => args,
        Err(parsed) => return usage::print(&parsed, std::env::args_os()),
    };
    let context = run::Context::new(&args.common);
    let result = commands::dispatch(&args.command, &context);
    context.progress.pause();
    match result {
        Ok(report) => {
            let exit = show::print(report.as_ref(), context.json);
            // A zone of a million records takes a while to be given back, and all of it goes with the process.
            std::mem::forget(report);
            exit
        }
        Err(error) => show::print_error(&suggest::with_suggestion(error, &context), context.json),
    }
}

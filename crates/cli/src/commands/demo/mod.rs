//! `demo`: a miniature internet on loopback, and the whole example played through it with this very program.

mod story;
mod visitor;

use std::path::PathBuf;

use brightharbor_standins::World;
use clap::Args;
use serde_json::{Value, json};

use crate::commands::Report;
use crate::error::{Error, Exit};
use crate::run::Context;
use crate::show::Shown;
use crate::show::human::Page;
use story::{Played, Story};

/// Play the whole example on a miniature internet on loopback. Needs no privileges and nothing else installed.
#[derive(Debug, Args)]
pub struct Demo {
    /// Leave the miniature internet running afterwards, to go on in another terminal, until Ctrl-C.
    #[arg(long)]
    keep: bool,
}

pub fn run(args: &Demo, context: &Context) -> Report {
    let folder = tempfile::Builder::new()
        .prefix("brightharbor-demo-")
        .tempdir()
        .map_err(|error| Error::refused("demo", format!("no temporary folder: {error}")))?;
    let world = World::start(folder.path()).map_err(|error| {
        Error::refused("demo", error).advice("see that addresses of 127.0.0.0/8 can be used on this machine")
    })?;
    let program = std::env::current_exe()
        .map_err(|error| Error::refused("demo", format!("this program cannot find itself: {error}")))?;
    let mut story = Story::new(&world, folder.path().to_path_buf(), program.clone(), context);
    let result = story.play();
    let played = story.into_played();
    result?;
    if args.keep {
        keep(context, &world, folder.path().join("harbor"), &program)?;
    }
    Ok(Box::new(Performance { played }))
}

/// Prints how to go on in another terminal, and waits for Ctrl-C.
fn keep(context: &Context, world: &World, harbor: PathBuf, program: &std::path::Path) -> Result<(), Error> {
    let mut page = Page::new();
    page.blank();
    page.line("The miniature internet stays until Ctrl-C. Go on in another terminal with these two lines:");
    page.line(&format!("export BRIGHTHARBOR={}", harbor.display()));
    page.line(&format!("{} survey gullrock.example", program.display()));
    context.progress.note(String::from_utf8_lossy(&page.into_bytes()).trim_end());
    context.progress.note(&format!(
        "Its registrar takes new nameservers by: curl -d 'ns1.saltmarsh.example ns2.saltmarsh.example' http://{}/gullrock.example",
        world.registrar_page
    ));
    let waited = context.block_on(tokio::signal::ctrl_c())?;
    waited.map_err(|error| Error::refused("demo", error))
}

struct Performance {
    played: Vec<Played>,
}

impl Shown for Performance {
    /// The story has been shown as it went.
    fn human(&self, _: &mut Page) {}

    fn json(&self) -> Value {
        let step = |played: &Played| json!({ "told": played.told, "did": played.did, "exit": played.exit });
        json!({ "command": "demo", "as_told": true, "steps": self.played.iter().map(step).collect::<Vec<_>>() })
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}

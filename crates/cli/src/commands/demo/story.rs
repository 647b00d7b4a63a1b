//! The story of the demo: real commands with their real output. A step that does not go as told ends it.

use std::io::Write;
use std::path::PathBuf;
use std::process::Command;
use std::time::{Duration, Instant};

use brightharbor_standins::World;

use super::visitor;
use crate::error::{Error, Exit};
use crate::run::Context;
use crate::settings;
use crate::show::human::Page;

/// A step as it went, for the report.
pub struct Played {
    pub told: String,
    pub did: String,
    pub exit: i32,
}

pub struct Story<'a> {
    world: &'a World,
    folder: PathBuf,
    program: PathBuf,
    context: &'a Context,
    played: Vec<Played>,
    started: Instant,
}

/// Before what commands print.
const INDENT: &str = "    ";

/// What a step must come to.
struct Expected<'a> {
    exit: Exit,
    /// Texts that the output must hold.
    says: &'a [&'a str],
}

impl<'a> Story<'a> {
    pub fn new(world: &'a World, folder: PathBuf, program: PathBuf, context: &'a Context) -> Self {
        Self { world, folder, program, context, played: vec![], started: Instant::now() }
    }

    pub fn into_played(self) -> Vec<Played> {
        self.played
    }

    pub fn play(&mut self) -> Result<(), Error> {
        self.prepare()?;
        self.tell("The Saltmarsh Web Co-op lays out its harbor and takes the bakery on as a customer.");
        let settings = self.folder.join("settings.toml").display().to_string();
        self.run(&["init", "--settings", &settings], Expected { exit: Exit::Done, says: &["Created the harbor at"] })?;
        let add = ["account", "add", "bakery", "--email", "baker@saltmarsh.example"];
        self.run(&add, Expected { exit: Exit::Done, says: &["Created account bakery"] })?;

        self.tell(
            "The bakery's domain is still delegated to its old host. Attaching it does all that can be done here.",
        );
        let attach = ["attach", "crumbandtide.example", "--account", "bakery"];
        let says = ["stops at `delegated`", "nameserver ns1.saltmarsh.example", "nameserver ns2.saltmarsh.example"];
        self.run(&attach, Expected { exit: Exit::Waits, says: &says })?;

        self.tell("The bakery's owner sets nameservers at the registrar, and leaves one of the old host among them.");
        self.delegate(&["ns1.saltmarsh.example", "ns2.oldquay.example"])?;
        let check = ["delegation", "check", "crumbandtide.example"];
        self.run(&check, Expected { exit: Exit::Fault, says: &["fault", "ns2.oldquay.example", "cure:"] })?;

        self.tell("What was wrong, why, and whose turn it is was said; the owner corrects it.");
        self.delegate(&["ns1.saltmarsh.example", "ns2.saltmarsh.example"])?;

        self.tell("The delegation holds now; resolvers keep the old answer for a time that can be told.");
        let survey = ["survey", "crumbandtide.example"];
        self.run(&survey, Expected { exit: Exit::Waits, says: &["delegated holds", "waiting until", "caches"] })?;

        self.tell("The scheduled job finishes what waits: certificate, install, proof, https.");
        self.run(&["tend"], Expected { exit: Exit::Done, says: &["issued, installed and verified"] })?;

        self.tell("A visitor types the name.");
        self.visit("crumbandtide.example")?;

        self.tell("A subdomain needs nobody else: one command, and all its links hold.");
        let shop = ["attach", "shop.crumbandtide.example", "--account", "bakery"];
        self.run(&shop, Expected { exit: Exit::Done, says: &["subdomain", "all six links hold"] })?;

        self.tell("A register asks for a record, and the old menu is sent on to the shop.");
        let record = ["record", "add", "crumbandtide.example", "TXT", "harbour-register=4711"];
        self.run(&record, Expected { exit: Exit::Done, says: &["harbour-register=4711", "serial"] })?;
        let redirect = ["redirect", "add", "crumbandtide.example/menu", "https://shop.crumbandtide.example/"];
        self.run(&redirect, Expected { exit: Exit::Done, says: &["crumbandtide.example/menu", "302"] })?;

        self.tell("A part of the shop is a program, which tells the tides: the web server passes visitors on to it.");
        let serve = format!("/tides=http://{}", self.world.program());
        let change = ["site", "change", "shop.crumbandtide.example", "--serve", &serve];
        self.run(
            &change,
            Expected { exit: Exit::Done, says: &["/tides is answered by the program at", "everything else by files"] },
        )?;
        let tried = ["redirect", "try", "http://shop.crumbandtide.example/tides"];
        self.run(
            &tried,
            Expected { exit: Exit::Done, says: &["Visitors end at a page", "agree", "answered by the program at"] },
        )?;

        self.tell("In the end every link of every name holds.");
        self.wait_for_caches()?;
        let names = ["survey", "crumbandtide.example", "www.crumbandtide.example", "shop.crumbandtide.example"];
        self.run(&names, Expected { exit: Exit::Done, says: &["all six links hold"] })?;
        self.run(&["site", "list"], Expected { exit: Exit::Done, says: &["shop.crumbandtide.example", "forced"] })?;
        self.note(&format!("Every step ended as expected, in {:.1} s.", self.started.elapsed().as_secs_f32()));
        Ok(())
    }

    /// What the domain's owner does with the login at the registrar.
    fn delegate(&self, names: &[&str]) -> Result<(), Error> {
        let set = self.world.registrar.set_nameservers("crumbandtide.example", names);
        set.map_err(|reason| failed(format!("the registrar refuses: {reason}")))?;
        self.note(&format!("(at the registrar) crumbandtide.example: {}", names.join(" ")));
        Ok(())
    }

    fn prepare(&self) -> Result<(), Error> {
        let write = |name: &str, text: &str| std::fs::write(self.folder.join(name), text);
        write("settings.toml", &self.world.settings())
            .and_then(|()| std::fs::create_dir(self.folder.join("homes")))
            .map_err(|error| failed(format!("the demo's folder: {error}")))
    }

    /// Runs this program in the demo's harbor, shows what it prints, and compares with what was told.
    fn run(&mut self, arguments: &[&str], expected: Expected<'_>) -> Result<(), Error> {
        let shown = arguments.join(" ").replace(&self.folder.display().to_string(), "...");
        self.context.progress.doing(&format!("brightharbor {shown}"));
        let output = Command::new(&self.program)
            .args(arguments)
            .env("BRIGHTHARBOR", self.folder.join("harbor"))
            .env("COLUMNS", Page::new().width().saturating_sub(INDENT.len()).to_string())
            .output()
            .map_err(|error| failed(format!("brightharbor {shown}: {error}")))?;
        let text = String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr);
        let exit = output.status.code().unwrap_or(-1);
        let short = text.replace(&self.folder.display().to_string(), "...");
        self.show(|page| {
            page.line(&format!("  $ brightharbor {shown}"));
            short.lines().for_each(|line| page.line(&format!("{INDENT}{line}")));
            page.blank();
        });
        self.record(format!("brightharbor {shown}"), exit);
        if exit != expected.exit as i32 {
            let wanted = expected.exit as i32;
            return Err(failed(format!("`brightharbor {shown}` ended with {exit}, not with {wanted}")));
        }
        // Where lines are wrapped does not matter.
        let flat = text.split_whitespace().collect::<Vec<_>>().join(" ");
        match expected.says.iter().find(|says| !flat.contains(**says)) {
            Some(says) => Err(failed(format!("`brightharbor {shown}` does not say `{says}`"))),
            None => Ok(()),
        }
    }

    fn visit(&mut self, hostname: &str) -> Result<(), Error> {
        let settings = settings::parse(&self.world.settings(), &self.folder.join("settings.toml"))?;
        let visit = self.context.block_on(visitor::visit(&settings, hostname))?.map_err(failed)?;
        self.note(&visit);
        self.record(format!("visit http://{hostname}/"), 0);
        Ok(())
    }

    /// The old answers were given with a TTL of a few seconds: that is the bound.
    fn wait_for_caches(&mut self) -> Result<(), Error> {
        let deadline = Instant::now() + Duration::from_secs(8);
        loop {
            let output = Command::new(&self.program)
                .args(["survey", "crumbandtide.example", "www.crumbandtide.example"])
                .env("BRIGHTHARBOR", self.folder.join("harbor"))
                .output()
                .map_err(|error| failed(error.to_string()))?;
            if output.status.success() || Instant::now() > deadline {
                return Ok(());
            }
            self.context.progress.doing("waiting until the old answers have left the caches");
            std::thread::sleep(Duration::from_millis(250));
        }
    }

    fn tell(&mut self, text: &str) {
        self.played.push(Played { told: text.into(), did: String::new(), exit: 0 });
        let number = self.played.iter().filter(|played| !played.told.is_empty()).count();
        self.show(|page| page.heading(&format!("{number}. {text}")));
    }

    fn note(&self, text: &str) {
        self.show(|page| {
            text.lines().for_each(|line| page.hanging("    ", line));
            page.blank();
        });
    }

    fn record(&mut self, did: String, exit: i32) {
        self.played.push(Played { told: String::new(), did, exit });
    }

    fn show(&self, write: impl FnOnce(&mut Page)) {
        if self.context.json {
            return;
        }
        let mut page = Page::new();
        write(&mut page);
        let text = page.into_bytes();
        self.context.progress.suspend(|| drop(anstream::stdout().write_all(&text)));
    }
}

fn failed(reason: impl ToString) -> Error {
    Error::new(Exit::Fault, "not-as-expected", format!("the demo does not go as expected: {}", reason.to_string()))
}

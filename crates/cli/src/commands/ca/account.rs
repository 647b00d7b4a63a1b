//! `ca change-key`, `ca tell-contact`, `ca close`: what becomes of the harbor's account at a CA.

use brightharbor_core::change::{CaErrand, Change, ChangeSet, ToldToCa};
use brightharbor_io::acme::has_account;
use clap::Args;
use serde_json::{Value, json};

use super::find;
use crate::commands::Report;
use crate::error::{Error, Exit};
use crate::options::ChangeOptions;
use crate::run::{Changed, Context, Decision, change};
use crate::show::Shown;
use crate::show::human::{self, Page};

/// Give the account at a CA another key, such as after a backup was lost. Cut off, it is finished by the next try.
#[derive(Debug, Args)]
pub struct ChangeKey {
    /// The CA, as `ca list` names it.
    #[arg(default_value = "default")]
    name: String,
    #[command(flatten)]
    options: ChangeOptions,
}

/// Tell a CA the contact that harbor.toml names now.
#[derive(Debug, Args)]
pub struct TellContact {
    /// The CA, as `ca list` names it.
    #[arg(default_value = "default")]
    name: String,
    #[command(flatten)]
    options: ChangeOptions,
}

/// Close the account at a CA for ever. Certificates from it stay good; the next order opens another account.
///
/// It cannot be taken back, so that --yes has to be said.
#[derive(Debug, Args)]
pub struct Close {
    /// The CA, as `ca list` names it.
    name: String,
    #[command(flatten)]
    options: ChangeOptions,
}

pub fn change_key(args: &ChangeKey, context: &Context) -> Report {
    tell("ca change-key", &args.name, ToldToCa::AnotherKey, "has another key now".into(), &args.options, context)
}

pub fn tell_contact(args: &TellContact, context: &Context) -> Report {
    let contact = find(&context.open()?, &args.name)?.contact.clone();
    let words = match &contact {
        Some(contact) => format!("is reached at {contact} now"),
        None => "names no contact now".into(),
    };
    tell("ca tell-contact", &args.name, ToldToCa::Contact { contact }, words, &args.options, context)
}

pub fn close(args: &Close, context: &Context) -> Report {
    find(&context.open()?, &args.name)?;
    if !args.options.yes && !args.options.dry_run {
        let message = format!("the account at the CA `{}` would be closed for ever", args.name);
        return Err(Error::refused("for-ever", message).advice("say so: --yes"));
    }
    tell("ca close", &args.name, ToldToCa::Closing, "is closed".into(), &args.options, context)
}

fn tell(
    command: &'static str,
    name: &str,
    told: ToldToCa,
    words: String,
    options: &ChangeOptions,
    context: &Context,
) -> Report {
    let title = format!("{command} {name}");
    let changed = context.block_on(change(context, &title, options, async |harbor, _| {
        find(harbor, name)?;
        has_account(&harbor.settings, &harbor.layout, name)?;
        let mut set = ChangeSet::new(&title);
        set.changes.push(Change::TellCa(CaErrand { ca: name.to_string(), told }));
        Ok(Decision { set, said: vec![] })
    }))??;
    Ok(Box::new(Told { command, name: name.to_string(), words, changed }))
}

struct Told {
    command: &'static str,
    name: String,
    words: String,
    changed: Changed,
}

impl Shown for Told {
    fn human(&self, page: &mut Page) {
        match self.changed.entry {
            Some(_) => page.hanging("", &format!("The account at the CA `{}` {}.", self.name, self.words)),
            None => human::change_report(page, &self.changed),
        }
    }

    fn json(&self) -> Value {
        let done = self.changed.entry.is_some();
        json!({
            "command": self.command,
            "ca": self.name,
            "carried_out": done,
            "outcome": done.then_some(&self.words),
        })
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}

//! `ca change-key`, `ca tell-contact`, `ca close`: what becomes of the harbor's account at a CA.

use brightharbor_core::certificate::tell_ca;
use brightharbor_core::change::ToldToCa;
use brightharbor_io::acme::has_account;
use clap::Args;
use serde_json::{Value, json};

use super::find;
use crate::commands::Report;
use crate::error::Exit;
use crate::options::ChangeOptions;
use crate::run::{Carried, Context, change};
use crate::show::human::{self, Page};
use crate::show::{Shown, json};

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
/// It cannot be undone, so that --yes is needed.
#[derive(Debug, Args)]
pub struct Close {
    /// The CA, as `ca list` names it.
    name: String,
    #[command(flatten)]
    options: ChangeOptions,
}

pub fn change_key(args: &ChangeKey, context: &Context) -> Report {
    tell("ca change-key", &args.name, ToldToCa::AnotherKey, "has a new key", &args.options, context)
}

pub fn tell_contact(args: &TellContact, context: &Context) -> Report {
    let contact = find(&context.open()?, &args.name)?.contact.clone();
    let words = match &contact {
        Some(contact) => format!("has the contact {contact}"),
        None => "has no contact".to_string(),
    };
    tell("ca tell-contact", &args.name, ToldToCa::Contact { contact }, words, &args.options, context)
}

pub fn close(args: &Close, context: &Context) -> Report {
    tell("ca close", &args.name, ToldToCa::Closing, "is closed", &args.options, context)
}

fn tell(
    command: &'static str,
    name: &str,
    told: ToldToCa,
    words: impl Into<String>,
    options: &ChangeOptions,
    context: &Context,
) -> Report {
    find(&context.open()?, name)?;
    let title = format!("{command} {name}");
    let (carried, ()) = context.block_on(change(context, &title, options, async |overlay, _| {
        find(overlay, name)?;
        has_account(&overlay.settings, &overlay.layout, name)?;
        Ok((tell_ca(command, name, told.clone()), ()))
    }))??;
    Ok(Box::new(Told { command, name: name.to_string(), words: words.into(), carried }))
}

struct Told {
    command: &'static str,
    name: String,
    words: String,
    carried: Carried,
}

impl Shown for Told {
    fn human(&self, page: &mut Page) {
        match self.carried.entry {
            Some(_) => page.hanging("", &format!("The account at the CA `{}` {}.", self.name, self.words)),
            None => human::change_report(page, &self.carried),
        }
    }

    fn json(&self) -> Value {
        let done = self.carried.entry.is_some();
        json!({
            "command": self.command,
            "ca": self.name,
            "carried_out": done,
            "change": json::ChangeDocument::from(&self.carried),
        })
    }

    fn exit(&self) -> Exit {
        self.carried.exit(Exit::Done)
    }
}

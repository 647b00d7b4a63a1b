//! `ca change-key`, `ca tell-contact`, `ca close`: what becomes of the harbor's account at a CA.

use brightharbor_io::acme::{change_key, deactivate, set_contact};
use clap::Args;
use serde_json::{Value, json};

use super::{find, open};
use crate::commands::Report;
use crate::error::{Error, Exit};
use crate::run::Context;
use crate::show::Shown;
use crate::show::human::Page;

/// Give the account at a CA another key, such as after a backup was lost. Cut off, it is finished by the next try.
#[derive(Debug, Args)]
pub struct ChangeKey {
    /// The CA, as `ca list` names it.
    #[arg(default_value = "default")]
    name: String,
}

/// Tell a CA the contact that harbor.toml names now.
#[derive(Debug, Args)]
pub struct TellContact {
    /// The CA, as `ca list` names it.
    #[arg(default_value = "default")]
    name: String,
}

/// Close the account at a CA for ever. Certificates from it stay good; the next order opens another account.
#[derive(Debug, Args)]
pub struct Close {
    /// The CA, as `ca list` names it.
    name: String,
    /// It cannot be taken back, so that this has to be said.
    #[arg(long)]
    yes: bool,
}

pub fn change(args: &ChangeKey, context: &Context) -> Report {
    let session = open(&context.open()?, &args.name)?;
    context.progress.doing("telling the CA");
    context.block_on(change_key(&session))??;
    Ok(Box::new(Done { command: "ca change-key", name: args.name.clone(), words: "has another key now".into() }))
}

pub fn tell_contact(args: &TellContact, context: &Context) -> Report {
    let harbor = context.open()?;
    let contact = find(&harbor, &args.name)?.contact.clone();
    let session = open(&harbor, &args.name)?;
    context.progress.doing("telling the CA");
    context.block_on(set_contact(&session, contact.clone()))??;
    let words = match contact {
        Some(contact) => format!("is reached at {contact} now"),
        None => "names no contact now".into(),
    };
    Ok(Box::new(Done { command: "ca tell-contact", name: args.name.clone(), words }))
}

pub fn close(args: &Close, context: &Context) -> Report {
    let harbor = context.open()?;
    find(&harbor, &args.name)?;
    if !args.yes {
        let message = format!("the account at the CA `{}` would be closed for ever", args.name);
        return Err(Error::refused("for-ever", message).advice("say so: --yes"));
    }
    let session = open(&harbor, &args.name)?;
    context.progress.doing("telling the CA");
    context.block_on(deactivate(&session))??;
    Ok(Box::new(Done { command: "ca close", name: args.name.clone(), words: "is closed".into() }))
}

struct Done {
    command: &'static str,
    name: String,
    words: String,
}

impl Shown for Done {
    fn human(&self, page: &mut Page) {
        page.hanging("", &format!("The account at the CA `{}` {}.", self.name, self.words));
    }

    fn json(&self) -> Value {
        json!({ "command": self.command, "ca": self.name, "outcome": self.words })
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}

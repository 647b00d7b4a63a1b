//! A second `init`: the keys given by options are set in `harbor.toml`; what else stands there stays.

use brightharbor_core::account::check_email;
use brightharbor_core::harbor::{GivenKeys, Layout, change_settings};
use brightharbor_io::load;
use serde_json::{Value, json};

use super::discover::discover;
use super::{Init, is_directory};
use crate::commands::Report;
use crate::error::{Error, Exit};
use crate::options::ChangeOptions;
use crate::run::{Carried, Context, change};
use crate::show::human::{Page, change_report};
use crate::show::{Shown, json};

/// The keys that the options give.
pub fn given_keys(args: &Init) -> Result<GivenKeys, Error> {
    if let Some(contact) = &args.ca.contact {
        check_email(contact).map_err(Error::wrong_use)?;
    }
    if let Some(directory) = &args.ca.directory
        && !is_directory(directory)
    {
        let message = format!("`{}` is no https URL", directory.escape_debug());
        return Err(Error::wrong_use(message).advice("give the URL of the CA's directory, as its documentation has it"));
    }
    let mut given = GivenKeys::default();
    if !args.addresses.is_empty() {
        given.give("host", &["addresses"], |to| to.host.addresses = args.addresses.clone());
    }
    if !args.nameservers.is_empty() {
        given.give("host", &["nameservers"], |to| to.host.nameservers = args.nameservers.clone());
    }
    let (web, dns) = args.servers.given();
    if web || dns {
        let (found, _) = discover(&args.servers)?;
        if web {
            given.give("web", &["server", "test", "reload", "main-file"], |to| to.web = found.web);
        }
        if dns {
            let keys = ["server", "check", "control-command", "main-file", "directory", "address"];
            given.give("dns", &keys, |to| to.dns = found.dns);
        }
    }
    if let Some(directory) = &args.ca.directory {
        given.give("ca", &["directory"], |to| to.ca.directory = Some(directory.clone()));
    }
    if let Some(contact) = &args.ca.contact {
        given.give("ca", &["contact"], |to| to.ca.contact = Some(contact.clone()));
    }
    if args.ca.terms_accepted {
        given.give("ca", &["terms-accepted"], |to| to.ca.terms_accepted = true);
    }
    Ok(given)
}

pub fn set_keys(args: &Init, given: &GivenKeys, context: &Context) -> Report {
    let options = ChangeOptions { dry_run: args.dry_run, yes: args.yes };
    let path = Layout::new(&context.root).settings();
    let (carried, ()) = context.block_on(change(context, "init", &options, async |overlay, _| {
        let plan = change_settings(&load::settings_file(overlay)?, given)
            .map_err(|error| Error::new(Exit::WrongUse, "settings", format!("{}: {error}", path.display())))?;
        Ok((plan, ()))
    }))??;
    let (web, _) = args.servers.given();
    Ok(Box::new(KeysSet { carried, web, nameservers: !args.nameservers.is_empty() }))
}

struct KeysSet {
    carried: Carried,
    /// Whether site files follow from what was given, and whether zones do.
    web: bool,
    nameservers: bool,
}

impl Shown for KeysSet {
    fn human(&self, page: &mut Page) {
        if self.carried.plan.is_empty() {
            return page.line("Nothing to change: harbor.toml says so already.");
        }
        change_report(page, &self.carried);
        if self.carried.entry.is_none() {
            return;
        }
        page.heading("Changed harbor.toml; everything else in it is as it was.");
        page.hanging("  ", "look at the servers: brightharbor init --check");
        if self.web {
            page.hanging("  ", "site files of the earlier settings are written again by: brightharbor site realign");
        }
        if self.nameservers {
            page.hanging("  ", "zones get the nameservers by: brightharbor zone realign");
        }
    }

    fn json(&self) -> Value {
        json!({
            "command": "init",
            "carried_out": self.carried.entry.is_some(),
            "change": json::ChangeDocument::from(&self.carried),
        })
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}

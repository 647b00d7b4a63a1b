//! `certificate request`: a key and a request for a certificate that is to be bought. The key stays in the harbor.

use std::fs::File;
use std::io::Write;
use std::path::PathBuf;

use brightharbor_core::account::check_email;
use brightharbor_core::acme::{Identifier, identifiers};
use brightharbor_core::change::{ChangeSet, FileWrite, Purpose};
use brightharbor_core::name::Hostname;
use brightharbor_core::site::Site;
use brightharbor_io::keys::{Subject, new_key_of, seller_request};
use clap::Args;
use serde_json::{Value, json};

use super::list::site_of;
use super::wish::{KeyArgument, wildcard_parent};
use crate::commands::{Report, host};
use crate::error::{Error, Exit};
use crate::options::ChangeOptions;
use crate::run::{Changed, Context, Decision, change};
use crate::show::human::{self, Page};
use crate::show::{Shown, json};

/// Make a key and a request for a certificate that is to be bought. The request is printed; the key never is.
#[derive(Debug, Args)]
pub struct Request {
    /// A hostname of the site.
    hostname: String,
    /// The kind of key.
    #[arg(long, value_enum, default_value = "p256")]
    key: KeyArgument,
    /// The country of the organization, in two letters.
    #[arg(long, value_name = "CC")]
    country: Option<String>,
    #[arg(long, value_name = "NAME")]
    state: Option<String>,
    #[arg(long, value_name = "NAME")]
    locality: Option<String>,
    #[arg(long, value_name = "NAME")]
    organization: Option<String>,
    #[arg(long, value_name = "NAME")]
    unit: Option<String>,
    /// A mailbox of the organization.
    #[arg(long, value_name = "ADDRESS")]
    email: Option<String>,
    /// Ask for all names one label below HOSTNAME as well; that is the common name then.
    #[arg(long)]
    wildcard: bool,
    /// Write the request to this file as well. It must not be there yet.
    #[arg(long, value_name = "FILE")]
    out: Option<PathBuf>,
    #[command(flatten)]
    options: ChangeOptions,
}

pub fn run(args: &Request, context: &Context) -> Report {
    let name = host(&args.hostname)?;
    let subject = subject(args)?;
    let unmade = |error| Error::refused("key", error).advice("try again; nothing was kept");
    if let Some(path) = args.out.as_ref().filter(|path| path.exists()) {
        let message = format!("{} is there already: it would be lost", path.display());
        return Err(Error::refused("in-the-way", message).advice("name another file, or move that one away"));
    }
    let title = format!("certificate request {name}");
    let mut made = None;
    let changed = context.block_on(change(context, &title, &args.options, async |harbor, now| {
        let site = site_of(harbor, &name)?;
        let key = new_key_of(args.key.into()).map_err(unmade)?;
        let identifiers = requested(&site, args.wildcard.then_some(&name))?;
        let request = seller_request(&key, &identifiers, &subject).map_err(unmade)?;
        let stamp = now.strftime("%Y%m%d-%H%M%S-%3f").to_string();
        // A folder of its own each time: no earlier key is ever lost.
        let folder = harbor.layout.requests().join(site.main().as_str()).join(stamp);
        let mut set = ChangeSet::new(&title);
        set.file(FileWrite::new(folder.join("key.pem"), None, key.as_str(), 0o600, Purpose::Key));
        set.file(FileWrite::new(folder.join("request.pem"), None, request.clone(), 0o600, Purpose::Loose));
        let names: Vec<String> = identifiers.iter().map(ToString::to_string).collect();
        let said =
            vec![format!("the request is for {}", names.join(", ")), format!("its key stays in {}", folder.display())];
        made = Some((request, names));
        Ok(Decision { set, said })
    }))??;
    let (request, names) = made.unwrap_or_default();
    if let Some(path) = args.out.as_ref().filter(|_| changed.entry.is_some()) {
        let written = File::create_new(path).and_then(|mut file| file.write_all(request.as_bytes()));
        written.map_err(|error| {
            Error::refused("save", format!("{}: {error}", path.display())).advice("see that its folder is there")
        })?;
    }
    Ok(Box::new(Requested { changed, request, names }))
}

/// What the request is for. Sellers tell the kind of product by the common name, so that a wildcard comes first.
fn requested(site: &Site, below: Option<&Hostname>) -> Result<Vec<Identifier>, Error> {
    let Some(name) = below else { return Ok(identifiers(&site.hostnames, &[])) };
    let mut all = identifiers(&site.hostnames, &[wildcard_parent(name)?]);
    all.rotate_right(1);
    Ok(all)
}

fn subject(args: &Request) -> Result<Subject, Error> {
    let country = match args.country.as_deref().map(str::to_ascii_uppercase) {
        Some(country) if country.len() != 2 || !country.bytes().all(|byte| byte.is_ascii_uppercase()) => {
            return Err(Error::wrong_use(format!("`{}` is no country in two letters", country.escape_debug()))
                .advice("give it as in DE, FR or GB (ISO 3166-1)"));
        }
        country => country,
    };
    // The upper bounds of RFC 5280 appendix A.1, in characters.
    let fields = [(&args.state, 128), (&args.locality, 128), (&args.organization, 64), (&args.unit, 64)];
    for (text, most) in fields.into_iter().filter_map(|(text, most)| Some((text.as_ref()?, most))) {
        let sound = !text.trim().is_empty() && !text.chars().any(char::is_control) && text.chars().count() <= most;
        if !sound {
            let shown: String = text.chars().take(40).flat_map(char::escape_debug).collect();
            return Err(Error::wrong_use(format!("`{shown}` cannot stand in a request"))
                .advice(format!("give 1 to {most} characters, without line breaks")));
        }
    }
    if let Some(email) = &args.email {
        check_email(email).map_err(Error::wrong_use)?;
    }
    Ok(Subject {
        email: args.email.clone(),
        country,
        state: args.state.clone(),
        locality: args.locality.clone(),
        organization: args.organization.clone(),
        unit: args.unit.clone(),
    })
}

struct Requested {
    changed: Changed,
    request: String,
    names: Vec<String>,
}

impl Shown for Requested {
    fn human(&self, page: &mut Page) {
        human::change_report(page, &self.changed);
        if self.changed.entry.is_some() {
            page.blank();
            self.request.lines().for_each(|line| page.line(line));
            page.blank();
            page.hanging(
                "next: ",
                "send it to the seller; what comes back goes to brightharbor certificate import FILES",
            );
        }
    }

    fn json(&self) -> Value {
        json!({
            "command": "certificate request",
            "change": json::ChangeDocument::from(&self.changed),
            "names": self.names,
            "request": self.changed.entry.map(|_| &self.request),
        })
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}

//! `certificate request`: a key and a request for a certificate that is to be bought. The key stays in the harbor.

use std::path::PathBuf;

use brightharbor_core::change::{ChangeSet, FileWrite, Purpose};
use brightharbor_core::name::Hostname;
use brightharbor_core::site::check_email;
use brightharbor_io::keys::{Subject, new_key_of, seller_request};
use clap::Args;
use serde_json::{Value, json};

use super::list::site_of;
use super::wish::KeyArgument;
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
    /// Write the request to this file as well.
    #[arg(long, value_name = "FILE")]
    out: Option<PathBuf>,
    #[command(flatten)]
    options: ChangeOptions,
}

pub fn run(args: &Request, context: &Context) -> Report {
    let name = host(&args.hostname)?;
    let subject = subject(args)?;
    let unmade = |error| Error::refused("key", error).advice("try again; nothing was kept");
    let title = format!("certificate request {name}");
    let mut made = None;
    let changed = context.block_on(change(context, &title, &args.options, async |harbor, now| {
        let site = site_of(harbor, &name)?;
        let key = new_key_of(args.key.into()).map_err(unmade)?;
        let request = seller_request(&key, &site.hostnames, &subject).map_err(unmade)?;
        let stamp = now.strftime("%Y%m%d-%H%M%S-%3f").to_string();
        // A folder of its own each time: no earlier key is ever lost.
        let folder = harbor.layout.requests().join(site.main().as_str()).join(stamp);
        let mut set = ChangeSet::new(&title);
        set.file(FileWrite::new(folder.join("key.pem"), None, key.as_str(), 0o600, Purpose::Key));
        set.file(FileWrite::new(folder.join("request.pem"), None, request.clone(), 0o600, Purpose::Loose));
        let names = site.hostnames.iter().map(Hostname::as_str).collect::<Vec<_>>().join(", ");
        let said = vec![format!("the request is for {names}"), format!("its key stays in {}", folder.display())];
        made = Some((request, site.hostnames.clone()));
        Ok(Decision { set, said })
    }))??;
    let (request, names) = made.unwrap_or_default();
    if let Some(path) = args.out.as_ref().filter(|_| changed.entry.is_some()) {
        std::fs::write(path, &request).map_err(|error| {
            Error::refused("save", format!("{}: {error}", path.display())).advice("see that its folder is there")
        })?;
    }
    Ok(Box::new(Requested { changed, request, names }))
}

fn subject(args: &Request) -> Result<Subject, Error> {
    let country = match args.country.as_deref().map(str::to_ascii_uppercase) {
        Some(country) if country.len() != 2 || !country.bytes().all(|byte| byte.is_ascii_uppercase()) => {
            return Err(Error::wrong_use(format!("`{}` is no country in two letters", country.escape_debug()))
                .advice("give it as in DE, FR or GB (ISO 3166-1)"));
        }
        country => country,
    };
    let fields = [&args.state, &args.locality, &args.organization, &args.unit];
    let sound = |text: &&String| !text.trim().is_empty() && text.len() <= 128 && !text.chars().any(char::is_control);
    if let Some(wrong) = fields.into_iter().flatten().find(|text| !sound(text)) {
        let shown: String = wrong.chars().take(40).flat_map(char::escape_debug).collect();
        return Err(Error::wrong_use(format!("`{shown}` cannot stand in a request"))
            .advice("give 1 to 128 characters, without line breaks"));
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
    names: Vec<Hostname>,
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

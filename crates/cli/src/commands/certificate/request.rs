//! `certificate request`: a key and a request for a certificate that is to be bought. The key stays in the harbor.

use std::path::PathBuf;

use brightharbor_core::account::check_email;
use brightharbor_core::certificate::{CertificateRefusal, keep_request, requested};
use brightharbor_io::keys::{KeyError, Subject, new_key_of, seller_request};
use clap::Args;
use serde_json::{Value, json};

use super::wish::KeyArgument;
use crate::commands::{Report, find_site, host};
use crate::error::{Error, Exit};
use crate::files;
use crate::options::ChangeOptions;
use crate::run::{Carried, Context, change};
use crate::show::human::{self, Page};
use crate::show::{Shown, json};

/// Create a key and a request for a certificate that is to be bought. The request is printed; the key never is.
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
    /// The state or province of the organization.
    #[arg(long, value_name = "NAME")]
    state: Option<String>,
    /// The town of the organization.
    #[arg(long, value_name = "NAME")]
    locality: Option<String>,
    /// Its name, as it is registered.
    #[arg(long, value_name = "NAME")]
    organization: Option<String>,
    /// The unit of the organization.
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
    let unmade = |error: KeyError| CertificateRefusal::Key(error.to_string());
    let out = args.out.as_deref().map(files::new_file).transpose()?;
    let title = format!("certificate request {name}");
    // Made once: what is decided again under the lock is the same.
    let key = new_key_of(args.key.into()).map_err(unmade)?;
    let (carried, (request, names)) =
        context.block_on(change(context, &title, &args.options, async |overlay, now| {
            let site = find_site(overlay, &name)?;
            let identifiers = requested(&site, args.wildcard.then_some(&name))?;
            let request = seller_request(&key, &identifiers, &subject).map_err(unmade)?;
            let names: Vec<String> = identifiers.iter().map(ToString::to_string).collect();
            let plan = keep_request(&site, identifiers, &key, &request, out.clone(), &overlay.layout, now);
            Ok((plan, (request, names)))
        }))??;
    Ok(Box::new(Requested { carried, request, names }))
}

fn subject(args: &Request) -> Result<Subject, Error> {
    let country = match args.country.as_deref().map(str::to_ascii_uppercase) {
        Some(country) if country.len() != 2 || !country.bytes().all(|byte| byte.is_ascii_uppercase()) => {
            return Err(Error::wrong_use(format!("`{}` is not a country in two letters", country.escape_debug()))
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
    carried: Carried,
    request: String,
    names: Vec<String>,
}

impl Shown for Requested {
    fn human(&self, page: &mut Page) {
        human::change_report(page, &self.carried);
        if self.carried.entry.is_some() {
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
            "change": json::ChangeDocument::from(&self.carried),
            "names": self.names,
            "request": self.carried.entry.map(|_| &self.request),
        })
    }

    fn exit(&self) -> Exit {
        self.carried.exit(Exit::Done)
    }
}

//! Certificates for other services than the web server: brought to each whenever it has another one than its hostname,
//! each by a change of its own, so that one that fails holds up no other.

use std::path::PathBuf;

use brightharbor_core::certificate::{covers, read_chain};
use brightharbor_core::change::{Change, ChangeSet, ServicePlacing};
use brightharbor_core::harbor::Service;
use brightharbor_io::harbor::Harbor;
use brightharbor_io::install::{folder_for, leads_to, service_has};
use jiff::Timestamp;
use serde::Serialize;
use zeroize::Zeroizing;

use crate::error::Error;
use crate::options::ChangeOptions;
use crate::run::{Changed, Context, Decision, change};

/// What came of bringing a service its certificate.
#[derive(Debug, Clone, Serialize)]
pub struct Brought {
    pub service: String,
    pub hostname: String,
    /// Whether it got another one just now.
    pub new: bool,
    pub problem: Option<String>,
}

/// Looks after the services of the settings; with a name, after that one alone.
pub async fn bring(context: &Context, only: Option<&str>, options: &ChangeOptions) -> Result<Vec<Brought>, Error> {
    if context.open()?.settings.services.is_empty() {
        return Ok(vec![]);
    }
    // What a killed command has left is taken back first: a service may have files that it was never told of.
    change(context, "certificate install", options, async |_, _| {
        Ok(Decision { set: ChangeSet::new("certificate install"), said: vec![] })
    })
    .await?;
    let harbor = context.open()?;
    let mut all = Vec::new();
    for (name, service) in chosen(&harbor, only) {
        let mut brought =
            Brought { service: name.clone(), hostname: service.hostname.to_string(), new: false, problem: None };
        match due(&harbor, name, service, Timestamp::UNIX_EPOCH)? {
            Due::Nothing => {}
            Due::Problem(problem) => brought.problem = Some(problem),
            Due::Placing(_) => match bring_one(context, name, options).await {
                Ok(new) => brought.new = new,
                Err(error) => brought.problem = Some(error.message),
            },
        }
        all.push(brought);
    }
    Ok(all)
}

/// What would be brought.
pub async fn foresee(context: &Context, only: Option<&str>) -> Result<Changed, Error> {
    let options = ChangeOptions { dry_run: true, yes: false };
    change(context, "certificate install", &options, async |harbor, now| {
        let (mut set, mut said) = (ChangeSet::new("certificate install"), Vec::new());
        for (name, service) in chosen(harbor, only) {
            match due(harbor, name, service, now)? {
                Due::Placing(placing) => set.changes.push(Change::PlaceForService(*placing)),
                Due::Problem(problem) => said.push(format!("the service {name} gets nothing: {problem}")),
                Due::Nothing => said.push(format!("the service {name} has the certificate of {}", service.hostname)),
            }
        }
        Ok(Decision { set, said })
    })
    .await
}

fn chosen<'a>(harbor: &'a Harbor, only: Option<&str>) -> impl Iterator<Item = (&'a String, &'a Service)> {
    harbor.settings.services.iter().filter(move |(name, _)| only.is_none_or(|only| only == *name))
}

/// Gives whether it was brought: somebody else may have been quicker.
async fn bring_one(context: &Context, name: &str, options: &ChangeOptions) -> Result<bool, Error> {
    let title = format!("certificate install --service {name}");
    let changed = change(context, &title, options, async |harbor, now| {
        let mut set = ChangeSet::new(&title);
        if let Some(service) = harbor.settings.services.get(name)
            && let Due::Placing(placing) = due(harbor, name, service, now)?
        {
            set.changes.push(Change::PlaceForService(*placing));
        }
        Ok(Decision { set, said: vec![] })
    })
    .await?;
    Ok(changed.entry.is_some())
}

/// What is to be done for a service.
enum Due {
    /// It has what its hostname has.
    Nothing,
    Placing(Box<ServicePlacing>),
    Problem(String),
}

fn due(harbor: &Harbor, name: &str, service: &Service, now: Timestamp) -> Result<Due, Error> {
    let site = harbor.store.site_of(&service.hostname)?;
    let Some(files) = site.and_then(|site| site.certificate) else {
        return Ok(Due::Problem(format!("{} has no certificate here yet", service.hostname)));
    };
    let read = |path: PathBuf| std::fs::read_to_string(&path).map_err(|error| format!("{}: {error}", path.display()));
    let decided = (|| {
        let chain_pem = read(files.chain())?;
        if service_has(service, chain_pem.as_bytes()) {
            return Ok(Due::Nothing);
        }
        let facts =
            read_chain(chain_pem.as_bytes()).map_err(|error| format!("{}: {error}", files.chain().display()))?;
        if !covers(&facts[0].names, &service.hostname) {
            return Err(format!("the certificate of its site does not cover {}", service.hostname));
        }
        Ok(Due::Placing(Box::new(ServicePlacing {
            name: name.to_string(),
            service: service.clone(),
            former: leads_to(service).map_err(|error| error.to_string())?,
            folder: folder_for(service, now),
            chain_pem,
            key_pem: Zeroizing::new(read(files.key())?),
        })))
    })();
    Ok(decided.unwrap_or_else(Due::Problem))
}

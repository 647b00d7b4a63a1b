//! `attach`: a hostname for an account, with everything it takes: document root, zone or record, web server file,
//! and, as soon as its links allow it, a certificate.

use brightharbor_core::name::{Hostname, is_registrable};
use brightharbor_core::site::{
    AccountName, AttachLoaded, AttachRequest, Attachment, NewZoneFiles, Site, Zone, ZoneChoice, ZoneHome, ZoneLoaded,
    attach, wanted_names,
};
use brightharbor_core::survey::Survey;
use brightharbor_core::zone::TemplateName;
use brightharbor_io::harbor::Harbor;
use brightharbor_io::install::read_if_there;
use brightharbor_io::server::await_fingerprint;
use brightharbor_io::zones::read_zone;
use clap::{Args, ValueEnum};
use serde_json::{Value, json};

use crate::commands::{Report, hostname};
use crate::design::DesignOptions;
use crate::error::{Error, Exit};
use crate::look::look_at_site;
use crate::options::ChangeOptions;
use crate::run::{Changed, Context, Decision, change};
use crate::secure::{SecureOutcome, Secured, secure};
use crate::show::human::{self, Page};
use crate::show::{Shown, json};

/// Attach a hostname to an account.
///
/// A registrable domain becomes an addon domain and brings its www twin; a name below a domain becomes a subdomain.
#[derive(Debug, Args)]
pub struct Attach {
    /// The hostname, such as crumbandtide.example.
    hostname: String,
    /// The account that it belongs to.
    #[arg(long, value_name = "ACCOUNT")]
    account: String,
    /// Who keeps the zone of a new domain.
    #[arg(long, value_enum, default_value = "here")]
    zone: ZoneArgument,
    /// With `--zone remote`: the primary server of harbor.toml that holds the zone.
    #[arg(long, value_name = "NAME", required_if_eq("zone", "remote"))]
    primary: Option<String>,
    #[command(flatten)]
    design: DesignOptions,
    #[command(flatten)]
    options: ChangeOptions,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum ZoneArgument {
    /// This harbor: the zone is made from the template.
    Here,
    /// A primary server elsewhere, which takes changes by UPDATE.
    Remote,
    /// Somebody else: the records are printed to be entered there.
    Elsewhere,
}

pub fn run(args: &Attach, context: &Context) -> Report {
    let request = AttachRequest {
        hostname: hostname(&args.hostname)?,
        account: AccountName::parse(&args.account).map_err(Error::wrong_use)?,
        zone: match args.zone {
            ZoneArgument::Here => ZoneChoice::Here,
            ZoneArgument::Remote => ZoneChoice::Remote(args.primary.clone().unwrap_or_default()),
            ZoneArgument::Elsewhere => ZoneChoice::Elsewhere,
        },
        design: args.design.design()?,
    };
    context.block_on(carry(args, request, context))?
}

async fn carry(args: &Attach, request: AttachRequest, context: &Context) -> Report {
    let title = format!("attach {}", request.hostname);
    let mut attached: Option<Site> = None;
    let changed = change(context, &title, &args.options, async |harbor, now| {
        let loaded = load(harbor, &request).await?;
        let Attachment { site, change_set, said } = attach(&request, &loaded, &harbor.settings, &harbor.layout, now)?;
        attached = Some(site);
        Ok(Decision { set: change_set, said })
    })
    .await?;
    let mut report = Attached { changed, secured: None, trouble: None, surveys: vec![] };
    if let (Some(site), Some(_)) = (attached, report.changed.entry)
        && let Err(error) = follow_up(context, &site, &mut report).await
    {
        // The hostname is attached; what could not be looked at is told, and `tend` goes on.
        report.trouble = Some(error.message);
    }
    Ok(Box::new(report))
}

/// After the change: a certificate if the links allow it, then the links as they are.
async fn follow_up(context: &Context, site: &Site, report: &mut Attached) -> Result<(), Error> {
    let harbor = context.open()?;
    await_fingerprint(&harbor.settings, site).await;
    if harbor.settings.ca.directory.is_some() {
        report.secured = Some(secure(context, site).await?);
    }
    context.progress.doing("walking the links");
    report.surveys = look_at_site(&context.open()?, site).await?.surveys;
    Ok(())
}

/// The part of the harbor that the decision rests on: found by key, whatever the size of the harbor.
async fn load(harbor: &Harbor, request: &AttachRequest) -> Result<AttachLoaded, Error> {
    let names = wanted_names(&request.hostname);
    let main = names[0].clone();
    let mut related: Vec<Site> = Vec::new();
    for name in names.iter().cloned().chain(main.ancestors()) {
        if let Some(site) = harbor.store.site_of(&name)?
            && !related.contains(&site)
        {
            related.push(site);
        }
    }
    let zone = match harbor.store.enclosing_zone(&main)? {
        Some(zone) if zone.home == ZoneHome::Elsewhere => Some(ZoneLoaded::Elsewhere(zone)),
        Some(zone) => Some(ZoneLoaded::Kept(Box::new(read_zone(harbor, &zone).await?))),
        None => match &request.zone {
            ZoneChoice::Remote(primary) if is_registrable(&main) => {
                let zone = Zone {
                    primary: Some(primary.clone()),
                    nameserver_set: request.design.nameserver_set.clone(),
                    ..Zone::new(main.clone(), request.account.clone(), ZoneHome::Remote)
                };
                Some(ZoneLoaded::Kept(Box::new(read_zone(harbor, &zone).await?)))
            }
            _ => None,
        },
    };
    Ok(AttachLoaded {
        account: harbor.store.account(&request.account)?,
        related,
        zone,
        new_zone: new_zone_files(harbor, &main, &request.design.template)?,
        site_file: read_if_there(&harbor.layout.site_file(harbor.settings.web.server, &main))?,
    })
}

/// The files that a new zone would meet.
pub fn new_zone_files(harbor: &Harbor, domain: &Hostname, template: &TemplateName) -> Result<NewZoneFiles, Error> {
    let Harbor { layout, settings, .. } = harbor;
    let catalog = settings.dns.catalog.as_ref().map(|catalog| layout.zone_file(catalog));
    Ok(NewZoneFiles {
        zone_file: read_if_there(&layout.zone_file(domain))?,
        zone_list: read_if_there(&layout.zone_list_of(settings.dns.server, domain))?,
        index: read_if_there(&layout.zone_index(settings.dns.server))?,
        template: read_if_there(&layout.zone_template(template))?,
        catalog: catalog.map(|file| read_if_there(&file)).transpose()?.flatten(),
    })
}

struct Attached {
    changed: Changed,
    secured: Option<Secured>,
    trouble: Option<String>,
    surveys: Vec<Survey>,
}

impl Shown for Attached {
    fn human(&self, page: &mut Page) {
        human::change_report(page, &self.changed);
        // Without a name that leads here there is nothing to tell that the links do not tell themselves.
        if let Some(secured) = self.secured.as_ref().filter(|secured| secured.outcome != SecureOutcome::NotYet) {
            human::secured(page, secured);
        }
        if let Some(trouble) = &self.trouble {
            page.hanging("note: ", &format!("the links could not be walked: {trouble}"));
        }
        human::surveys(page, &self.surveys);
    }

    fn json(&self) -> Value {
        json!({
            "command": "attach",
            "change": json::ChangeDocument::from(&self.changed),
            "certificate": self.secured.as_ref().map(json::SecuredDocument::from),
            "trouble": self.trouble,
            "surveys": self.surveys.iter().map(json::SurveyDocument::from).collect::<Vec<_>>(),
        })
    }

    fn exit(&self) -> Exit {
        let waits = self.trouble.is_some() || self.surveys.iter().any(|survey| !survey.all_hold());
        match self.changed.entry {
            Some(_) if waits => exit_of(&self.surveys, Exit::Waits),
            _ => Exit::Done,
        }
    }
}

/// The exit code for surveyed hostnames: a fault of this machine's own comes before waiting.
pub fn exit_of(surveys: &[Survey], otherwise: Exit) -> Exit {
    if surveys.iter().any(Survey::has_own_fault) { Exit::Fault } else { otherwise }
}

//! `attach`: a hostname for an account, with everything it takes: document root, zone or record, web server file,
//! and, as soon as its links allow it, a certificate.

mod load;

use std::collections::BTreeMap;
use std::net::IpAddr;
use std::path::PathBuf;

use brightharbor_core::account::{AccountName, Counted};
use brightharbor_core::change::ChangeSet;
use brightharbor_core::name::{DnsName, Hostname, Pasted, is_registrable, parse_pasted};
use brightharbor_core::site::{AttachRequest, ServedFrom, Site, WwwPolicy, ZoneChoice, attach, wanted_names};
use brightharbor_core::survey::Survey;
use brightharbor_io::server::await_fingerprint;
use clap::{Args, ValueEnum};
use serde_json::{Value, json};

pub use self::load::new_zone_files;
use self::load::{load, near_miss};
use crate::commands::plan::refuse_beyond;
use crate::commands::{Report, hostname};
use crate::design::DesignOptions;
use crate::error::{Error, Exit};
use crate::look::look_at_site;
use crate::options::ChangeOptions;
use crate::run::{Changed, Context, Decision, change};
use crate::secure::{SecureOutcome, Secured, secure};
use crate::show::human::{self, Page};
use crate::show::{Shown, json};
use crate::site_change::own_file;

/// Attach hostnames to an account.
///
/// A registrable domain becomes an addon domain and brings its www twin; a name below a domain becomes a subdomain.
#[derive(Debug, Args)]
pub struct Attach {
    /// The hostnames, such as crumbandtide.example; as pasted from an address bar will do.
    #[arg(required_unless_present = "address")]
    hostnames: Vec<String>,
    /// In place of a hostname: a site without a name, served by this address over http.
    #[arg(long, value_name = "ADDRESS", conflicts_with_all = ["hostnames", "same_as", "served_by", "no_site", "preview"])]
    address: Option<IpAddr>,
    /// The account that they belong to.
    #[arg(long, value_name = "ACCOUNT")]
    account: String,
    /// Serve it from this folder: relative to the account's home, or absolute inside it.
    #[arg(long, value_name = "FOLDER", conflicts_with_all = ["same_as", "served_by"])]
    document_root: Option<PathBuf>,
    /// The given folder may be there already.
    #[arg(long, requires = "document_root")]
    existing: bool,
    /// Show the site of this hostname: a parked domain.
    #[arg(long, value_name = "HOSTNAME", conflicts_with = "served_by")]
    same_as: Option<String>,
    /// Somebody else serves it, such as a content network: an alias record to this name, and no site.
    #[arg(long, value_name = "NAME")]
    served_by: Option<DnsName>,
    /// Keep the zone of a domain whose names are served elsewhere: no site, and no addresses.
    #[arg(long, conflicts_with_all = ["document_root", "same_as", "served_by"])]
    no_site: bool,
    /// Give each site a name below the provider's domain as well, to look at it before its delegation moves.
    #[arg(long, conflicts_with_all = ["same_as", "served_by", "no_site"])]
    preview: bool,
    /// Its www twin: served alike, or one sent to the other. By default a domain has one, served alike.
    #[arg(long, value_enum)]
    www: Option<WwwArgument>,
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

#[derive(Debug, Clone, Copy, ValueEnum)]
pub enum WwwArgument {
    /// Both are served.
    Also,
    /// www is sent to the bare name.
    ToBare,
    /// The bare name is sent to www.
    ToWww,
    /// No twin.
    None,
}

impl From<WwwArgument> for WwwPolicy {
    fn from(typed: WwwArgument) -> WwwPolicy {
        match typed {
            WwwArgument::Also => WwwPolicy::Also,
            WwwArgument::ToBare => WwwPolicy::ToBare,
            WwwArgument::ToWww => WwwPolicy::ToWww,
            WwwArgument::None => WwwPolicy::None,
        }
    }
}

impl Attach {
    /// The first domain of a new account, with everything as usual.
    pub fn first(domain: &str, account: &AccountName, options: &ChangeOptions) -> Self {
        Self {
            hostnames: vec![domain.to_string()],
            address: None,
            account: account.to_string(),
            document_root: None,
            existing: false,
            same_as: None,
            served_by: None,
            no_site: false,
            preview: false,
            www: None,
            zone: ZoneArgument::Here,
            primary: None,
            design: DesignOptions::default(),
            options: options.clone(),
        }
    }
}

/// More sites than this are left to `tend` and `survey`: walking the links of each would take long.
const MOST_FOLLOWED: usize = 20;

pub fn run(args: &Attach, context: &Context) -> Report {
    let account = AccountName::parse(&args.account).map_err(Error::wrong_use)?;
    let zone = match args.zone {
        ZoneArgument::Here => ZoneChoice::Here,
        ZoneArgument::Remote => ZoneChoice::Remote(args.primary.clone().unwrap_or_default()),
        ZoneArgument::Elsewhere => ZoneChoice::Elsewhere,
    };
    let place = match (&args.same_as, &args.served_by) {
        (Some(other), _) => ServedFrom::SameAs(hostname(other)?),
        (None, Some(target)) => ServedFrom::Elsewhere(target.clone()),
        (None, None) if args.no_site => ServedFrom::Nowhere,
        (None, None) => ServedFrom::OwnRoot { given: args.document_root.clone(), existing: args.existing },
    };
    if args.document_root.is_some() && args.hostnames.len() > 1 {
        return Err(Error::wrong_use("one document root for several hostnames")
            .advice("attach the first with it, and the others with --same-as"));
    }
    let (design, www) = (args.design.design()?, args.www.map(WwwPolicy::from));
    let mut requests = Vec::new();
    let mut said = Vec::new();
    let mut hosts: Vec<Hostname> = args.address.map(Hostname::of_address).into_iter().collect();
    for typed in &args.hostnames {
        let pasted =
            parse_pasted(typed).or_else(|_| hostname(typed).map(|hostname| Pasted { hostname, said: None }))?;
        said.extend(pasted.said);
        hosts.push(pasted.hostname);
    }
    for hostname in hosts {
        let (account, zone, design) = (account.clone(), zone.clone(), design.clone());
        requests.push(AttachRequest { hostname, account, zone, design, www, place: place.clone() });
    }
    if args.preview {
        let provided = context.open()?.settings.sites.provider_domains.into_iter().next().ok_or_else(|| {
            Error::refused("no-provider-domain", "harbor.toml names no provider-domains for previews")
                .advice("set `provider-domains` under [sites] to a domain whose zone is in this harbor")
        })?;
        let previews = requests.iter().map(|request| preview(request, &provided)).collect::<Result<Vec<_>, _>>()?;
        requests.extend(previews);
    }
    context.block_on(carry(args, requests, said, context))?
}

/// The same site under a name of the provider: `crumbandtide-example` below its domain.
fn preview(request: &AttachRequest, provided: &Hostname) -> Result<AttachRequest, Error> {
    let main = wanted_names(&request.hostname, request.www)[0].clone();
    let label: String = main.as_str().replace('.', "-").chars().take(63).collect();
    Ok(AttachRequest {
        hostname: hostname(&format!("{}.{provided}", label.trim_end_matches('-')))?,
        www: Some(WwwPolicy::None),
        place: ServedFrom::SameAs(main),
        ..request.clone()
    })
}

async fn carry(args: &Attach, requests: Vec<AttachRequest>, mut said: Vec<String>, context: &Context) -> Report {
    let title = match &requests[..] {
        [one] => format!("attach {} --account {}", one.hostname, one.account),
        many => format!("attach {} and {} more --account {}", many[0].hostname, many.len() - 1, many[0].account),
    };
    let mut attached: Vec<Site> = Vec::new();
    let changed = change(context, &title, &args.options, async |harbor, now| {
        let mut set = ChangeSet::new(&title);
        for (counted, more) in wanted_counts(&requests) {
            refuse_beyond(harbor, &requests[0].account, counted, more)?;
        }
        for request in &requests {
            if let Some(near) = near_miss(harbor, &request.hostname)? {
                said.push(format!("{} is close to {near}, which is here already: one letter apart", request.hostname));
            }
            let loaded = load(harbor, request, &set).await?;
            if let Some((joined, _)) = &loaded.joined {
                own_file(harbor, joined, args.options.yes || args.options.dry_run)?;
            }
            let decided = attach(request, &loaded, &harbor.settings, &harbor.layout, now)?;
            set.extend(decided.change_set.changes);
            said.extend(decided.said);
            attached.retain(|site| site.main() != decided.site.main());
            attached.push(decided.site);
        }
        Ok(Decision { set, said: std::mem::take(&mut said) })
    })
    .await?;
    let mut report = Attached { changed, secured: vec![], trouble: None, surveys: vec![] };
    if report.changed.entry.is_some() && attached.len() <= MOST_FOLLOWED {
        for site in &attached {
            if let Err(error) = follow_up(context, site, &mut report).await {
                // The hostname is attached; what could not be looked at is told, and `tend` goes on.
                report.trouble = Some(error.message);
            }
        }
    } else if report.changed.entry.is_some() {
        let count = attached.len();
        // The reload is over when one of them is served: whatever comes next sees all of them.
        await_fingerprint(&context.open()?.settings, &attached[0], report.changed.took).await;
        report.trouble = Some(format!("there are {count} sites; `brightharbor tend` goes on with each"));
    }
    Ok(Box::new(report))
}

/// How many more of what plans count.
fn wanted_counts(requests: &[AttachRequest]) -> BTreeMap<Counted, u32> {
    let mut counts = BTreeMap::new();
    for request in requests {
        let main = &wanted_names(&request.hostname, request.www)[0];
        let counted = match (&request.place, is_registrable(main)) {
            // A preview is no parked domain: it lies below the provider's.
            (ServedFrom::SameAs(_), false) => continue,
            (ServedFrom::Elsewhere(_) | ServedFrom::Nowhere, _) => continue,
            (ServedFrom::SameAs(_), _) => Counted::ParkedDomains,
            (_, _) if main.address().is_some() => continue,
            (_, true) => Counted::AddonDomains,
            (_, false) => Counted::Subdomains,
        };
        *counts.entry(counted).or_insert(0) += 1;
    }
    counts
}

/// After the change: a certificate if the links allow it, then the links as they are.
async fn follow_up(context: &Context, site: &Site, report: &mut Attached) -> Result<(), Error> {
    let harbor = context.open()?;
    await_fingerprint(&harbor.settings, site, report.changed.took).await;
    let named = site.main().address().is_none();
    if named && harbor.settings.ca.directory.is_some() && harbor.store.site_of(site.main())?.is_some() {
        report.secured.push(secure(context, site).await?);
    }
    context.progress.doing("walking the links");
    report.surveys.extend(look_at_site(&context.open()?, site).await?.surveys);
    Ok(())
}

struct Attached {
    changed: Changed,
    secured: Vec<Secured>,
    trouble: Option<String>,
    surveys: Vec<Survey>,
}

impl Shown for Attached {
    fn human(&self, page: &mut Page) {
        human::change_report(page, &self.changed);
        // Without a name that leads here there is nothing to tell that the links do not tell themselves.
        for secured in self.secured.iter().filter(|secured| secured.outcome != SecureOutcome::NotYet) {
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
            "certificate": self.secured.first().map(json::SecuredDocument::from),
            "certificates": self.secured.iter().map(json::SecuredDocument::from).collect::<Vec<_>>(),
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

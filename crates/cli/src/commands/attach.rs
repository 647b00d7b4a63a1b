//! `attach`: a hostname for an account, with everything it takes: document root, zone or record, web server file,
//! and, as soon as its links allow it, a certificate.

use std::net::IpAddr;
use std::path::PathBuf;

use brightharbor_core::account::AccountName;
use brightharbor_core::name::{DnsName, Host, Pasted, parse_pasted};
use brightharbor_core::site::{AttachRequest, ServedFrom, WwwPolicy, ZoneChoice, preview_of};
use clap::{Args, ValueEnum};

use crate::attaching::attach;
use crate::commands::{Report, hostname};
use crate::content::ContentOptions;
use crate::design::{DesignOptions, former_file};
use crate::error::Error;
use crate::files::given_list;
use crate::options::typed_address;
use crate::options::{ChangeOptions, WwwArgument};
use crate::run::Context;

/// Attach hostnames to an account.
///
/// A registrable domain becomes an addon domain and brings its www twin; a name below a domain becomes a subdomain.
#[derive(Debug, Args)]
pub struct Attach {
    /// The hostnames, such as crumbandtide.example; as pasted from an address bar will do.
    #[arg(required_unless_present_any = ["address", "from_file"])]
    hostnames: Vec<String>,
    /// The hostnames in this file, one a line; `#` begins a comment, `-` is standard input.
    #[arg(long, value_name = "FILE", conflicts_with_all = ["address", "hostnames", "document_root", "from"])]
    from_file: Option<PathBuf>,
    /// In place of a hostname: a site without a name, served by this address over http.
    #[arg(long, value_name = "ADDRESS", conflicts_with_all = ["hostnames", "same_as", "served_by", "no_site", "preview"], value_parser = typed_address)]
    address: Option<IpAddr>,
    /// The account that they belong to.
    #[arg(long, value_name = "ACCOUNT")]
    account: String,
    /// Serve it from this folder: relative to the account's home, or absolute inside it.
    #[arg(long, value_name = "FOLDER", conflicts_with_all = ["same_as", "served_by"])]
    document_root: Option<PathBuf>,
    /// The given folder may already exist.
    #[arg(long, requires = "document_root")]
    existing: bool,
    /// Show the site of this hostname: an alias domain.
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
    /// Its www twin: served alike, or one redirecting to the other. By default a domain has one, served alike.
    #[arg(long, value_enum)]
    www: Option<WwwArgument>,
    /// Who keeps the zone of a new domain.
    #[arg(long, value_enum, default_value = "here")]
    zone: ZoneArgument,
    /// With `--zone remote`: the primary server of harbor.toml that holds the zone.
    #[arg(long, value_name = "NAME", required_if_eq("zone", "remote"))]
    primary: Option<String>,
    /// The zone file of a new domain as its former provider gives it out: what it has beside the addresses of the site is
    /// carried over.
    #[arg(long, value_name = "FILE", conflicts_with = "bare")]
    from: Option<PathBuf>,
    #[command(flatten)]
    design: DesignOptions,
    #[command(flatten)]
    options: ChangeOptions,
    // Last: its heading would hold for what comes behind it.
    #[command(flatten)]
    content: ContentOptions,
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
    let account = AccountName::parse(&args.account).map_err(Error::wrong_use)?;
    let zone = match args.zone {
        ZoneArgument::Here => ZoneChoice::Here,
        ZoneArgument::Remote => ZoneChoice::Remote(args.primary.clone().unwrap_or_default()),
        ZoneArgument::Elsewhere => ZoneChoice::Elsewhere,
    };
    let place = match (&args.same_as, &args.served_by) {
        (Some(other), _) => ServedFrom::SameAs(hostname(other)?.into()),
        (None, Some(target)) => ServedFrom::Elsewhere(target.clone()),
        (None, None) if args.no_site => ServedFrom::Nowhere,
        (None, None) => ServedFrom::OwnRoot { given: args.document_root.clone(), existing: args.existing },
    };
    let content = args.content.wish()?;
    if !content.is_empty() && !matches!(place, ServedFrom::OwnRoot { .. }) {
        return Err(Error::wrong_use("what a site shows was given for a name that gets no site of its own")
            .advice("give it to the site that the name shows: brightharbor site change HOSTNAME --serve WHAT"));
    }
    if args.document_root.is_some() && args.hostnames.len() > 1 {
        return Err(Error::wrong_use("`--document-root` was given for several hostnames")
            .advice("attach the first with it, and the others with --same-as"));
    }
    let (mut design, www) = (args.design.design()?, args.www.map(WwwPolicy::from));
    let mut requests = Vec::new();
    let mut said = Vec::new();
    let mut hosts: Vec<Host> = args.address.map(Host::from).into_iter().collect();
    let listed = match &args.from_file {
        Some(file) => given_list(file, "give a file with one hostname a line")?,
        None => vec![],
    };
    let of_file = listed.iter().map(|(line, typed)| (Some(*line), typed));
    for (line, typed) in args.hostnames.iter().map(|typed| (None, typed)).chain(of_file) {
        let read = parse_pasted(typed).or_else(|_| hostname(typed).map(|hostname| Pasted { hostname, said: None }));
        let pasted = match (read, line, &args.from_file) {
            (Err(error), Some(line), Some(file)) => {
                let message = format!("{}:{line}: {}", file.display(), error.message);
                return Err(Error { message, ..error });
            }
            (read, ..) => read?,
        };
        said.extend(pasted.said);
        hosts.push(pasted.hostname.into());
    }
    if let Some(file) = &args.from {
        let [Host::Name(domain)] = &hosts[..] else {
            return Err(Error::wrong_use("`--from` was given for several hostnames")
                .advice("attach the domains one at a time, each with its own zone file"));
        };
        design.former = former_file(file, domain)?;
    }
    for hostname in hosts {
        let (account, zone, design) = (account.clone(), zone.clone(), design.clone());
        let (place, content) = (place.clone(), content.clone());
        requests.push(AttachRequest { hostname, account, zone, design, www, place, content });
    }
    if requests.is_empty() {
        return Err(Error::wrong_use("the file names no hostname").advice("give one hostname a line"));
    }
    if args.preview {
        let provided = context.open()?.settings.sites.provider_domains.into_iter().next().ok_or_else(|| {
            Error::refused("no-provider-domain", "harbor.toml names no provider-domains for previews")
                .advice("set `provider-domains` under [sites] to a domain whose zone is in this harbor")
        })?;
        let previews = requests.iter().map(|request| preview_of(request, &provided)).collect::<Result<Vec<_>, _>>();
        requests.extend(previews.map_err(Error::wrong_use)?);
    }
    context.block_on(attach(requests, said, &args.options, context))?
}

//! `site list`: every site with its names, document root, https and certificate, from the inventory alone.

use std::path::PathBuf;

use brightharbor_core::certificate::due::is_awaited;
use brightharbor_core::certificate::{Certificate, CertificateSource, CertificateState, Waiting};
use brightharbor_core::site::{Site, SiteKind};
use brightharbor_core::survey::{LinkName, Survey};
use brightharbor_io::clock;
use brightharbor_io::harbor::Harbor;
use clap::{Args, ValueEnum};
use serde_json::{Value, json};

use crate::commands::{Report, find_account};
use crate::error::{Error, Exit};
use crate::narrowed::{Narrowed, WithText};
use crate::run::Context;
use crate::show::Shown;
use crate::show::human::Page;
use crate::show::json::hosts_document;
use crate::show::words::{host_words, https_word};
use brightharbor_io::look::look;

/// List the sites. What the world sees of one, `survey` tells.
#[derive(Debug, Args)]
pub struct List {
    /// Only the sites of this account.
    #[arg(long, value_name = "ACCOUNT")]
    account: Option<String>,
    /// Only the sites of this kind.
    #[arg(long, value_enum)]
    kind: Option<KindArgument>,
    /// By what the list is sorted; those without an end come last.
    #[arg(long, value_enum, default_value = "name")]
    sort: Sort,
    /// Walk the links of each main name, and tell the first that does not hold.
    #[arg(long)]
    links: bool,
    /// Only the sites whose main name stops at this link; walks the links of each.
    #[arg(long, value_enum, value_name = "LINK")]
    stops_at: Option<StopArgument>,
    #[command(flatten)]
    with: WithText,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum StopArgument {
    /// Whichever it is.
    Any,
    Registered,
    Delegated,
    Resolves,
    Answers,
    Secure,
    Lands,
    /// All links hold.
    Nowhere,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum KindArgument {
    AddonDomain,
    Subdomain,
    ByAddress,
}

impl From<KindArgument> for SiteKind {
    fn from(typed: KindArgument) -> SiteKind {
        match typed {
            KindArgument::AddonDomain => SiteKind::AddonDomain,
            KindArgument::Subdomain => SiteKind::Subdomain,
            KindArgument::ByAddress => SiteKind::ByAddress,
        }
    }
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum Sort {
    Name,
    Account,
    /// The certificate that expires first comes first; those without one at the end.
    Expiry,
}

pub fn run(args: &List, context: &Context) -> Report {
    let harbor = context.open()?;
    let account = args.account.as_deref().map(|typed| find_account(&harbor, typed)).transpose()?;
    let sites = harbor.store.sites(account.as_ref().map(|account| &account.name))?.into_iter();
    let rows = sites.map(|site| {
        let certificate = harbor.store.certificate_of(site.main())?;
        let waits = is_awaited(&site, certificate.as_ref(), &harbor.settings);
        let waiting = harbor.store.waiting_of(site.main())?;
        let home = harbor.store.account(&site.account)?.map(|account| account.home);
        Ok(Row { site, home, certificate, waits, waiting, stops_at: None })
    });
    let mut rows: Vec<Row> = rows.collect::<Result<_, Error>>()?;
    if let Some(kind) = args.kind {
        rows.retain(|row| row.site.kind == SiteKind::from(kind));
    }
    match args.sort {
        Sort::Name => {}
        Sort::Account => rows.sort_by(|a, b| a.site.account.cmp(&b.site.account)),
        Sort::Expiry => rows.sort_by_key(|row| {
            let end = row.certificate.as_ref().map(|certificate| certificate.not_after);
            (end.is_none(), end)
        }),
    }
    let links = args.links || args.stops_at.is_some();
    if links {
        context.block_on(walk_links(context, &harbor, &mut rows))??;
    }
    if let Some(stop) = args.stops_at {
        rows.retain(|row| row.stops_at.is_some_and(|at| stop.fits(at)));
    }
    let of = harbor.store.count_all_sites()?;
    Ok(Box::new(Sites { sites: args.with.narrow(rows, of, Row::texts), links }))
}

/// One after the other: a site's links are many questions already.
async fn walk_links(context: &Context, harbor: &Harbor, rows: &mut [Row]) -> Result<(), Error> {
    for row in rows {
        let main = row.site.main();
        context.progress.doing(&format!("walking the links of {main}"));
        let looked = look(harbor, std::slice::from_ref(main), None).await?;
        let survey = looked.surveys.first();
        let stop = survey.and_then(Survey::first_open);
        row.stops_at = Some(stop.map_or(ALL_HOLD, |link| link.name.word()));
    }
    Ok(())
}

const ALL_HOLD: &str = "all hold";

impl StopArgument {
    fn fits(self, stops_at: &str) -> bool {
        match self {
            StopArgument::Any => stops_at != ALL_HOLD,
            StopArgument::Nowhere => stops_at == ALL_HOLD,
            StopArgument::Registered => stops_at == LinkName::Registered.word(),
            StopArgument::Delegated => stops_at == LinkName::Delegated.word(),
            StopArgument::Resolves => stops_at == LinkName::Resolves.word(),
            StopArgument::Answers => stops_at == LinkName::Answers.word(),
            StopArgument::Secure => stops_at == LinkName::Secure.word(),
            StopArgument::Lands => stops_at == LinkName::Lands.word(),
        }
    }
}

struct Row {
    site: Site,
    /// That of its account.
    home: Option<PathBuf>,
    certificate: Option<Certificate>,
    /// Whether a certificate is to be got for some of its names.
    waits: bool,
    waiting: Option<Waiting>,
    /// The first link that does not hold, where they were walked.
    stops_at: Option<&'static str>,
}

struct Sites {
    sites: Narrowed<Row>,
    links: bool,
}

impl Row {
    /// The main name, and `and www` for its twin: the usual case in the least room.
    fn names(&self) -> String {
        let main = self.site.main();
        let others = self.site.hostnames.iter().skip(1).map(|name| match name.without_www() {
            Some(bare) if bare == *main => "www".to_string(),
            _ => host_words(name),
        });
        std::iter::once(host_words(main)).chain(others).collect::<Vec<_>>().join(" and ")
    }

    /// What it is found by: the line, and each name in full.
    fn texts(&self) -> Vec<String> {
        let names = self.site.hostnames.iter().map(ToString::to_string);
        self.cells(false).into_iter().chain(names).collect()
    }

    fn cells(&self, in_window: bool) -> Vec<String> {
        let mut cells = vec![
            self.names(),
            self.site.account.to_string(),
            self.https().to_string(),
            self.certificate_words(),
            self.root(in_window),
        ];
        cells.extend(self.stops_at.map(String::from));
        cells
    }

    /// The document root; in a window, from the home of the account on, as `~bakery/www/crumbandtide.example`.
    fn root(&self, in_window: bool) -> String {
        let root = &self.site.document_root;
        let below = self.home.as_ref().filter(|_| in_window).and_then(|home| root.strip_prefix(home).ok());
        below.map_or(root.display().to_string(), |below| format!("~{}/{}", self.site.account, below.display()))
    }

    /// The state that all hosts have; `in part` where some have less than others.
    fn https(&self) -> &'static str {
        let state = self.site.https_of(self.site.main());
        match self.site.hostnames.iter().all(|host| self.site.https_of(host) == state) {
            true => https_word(state),
            false => "in part",
        }
    }

    fn certificate_words(&self) -> String {
        match (&self.certificate, self.waits) {
            (Some(certificate), _) => {
                let days = certificate.not_after.duration_since(clock::now()).as_hours() / 24;
                match (certificate.source, certificate.state) {
                    (CertificateSource::SelfSigned, _) => format!("self-signed, {days} days"),
                    (_, CertificateState::Served) => format!("{days} days"),
                    (_, state) => format!("{}, {days} days", state.word()),
                }
            }
            (None, true) => "waits".into(),
            (None, false) => "none".into(),
        }
    }
}

impl Shown for Sites {
    fn human(&self, page: &mut Page) {
        let none = "No sites yet. Attach one: brightharbor attach HOSTNAME --account ACCOUNT";
        let mut headings = vec!["site", "account", "https", "certificate", "document root"];
        if self.links {
            headings.push("stops at");
        }
        let in_window = page.is_read_in_a_window();
        self.sites.show(page, "site", none, &headings, |row| row.cells(in_window));
    }

    fn json(&self) -> Value {
        let row = |row: &Row| {
            json!({
                "hostnames": row.site.hostnames,
                "kind": row.site.kind.words(),
                "account": row.site.account,
                "document_root": row.site.document_root.display().to_string(),
                "https": https_word(row.site.https_of(row.site.main())),
                "hosts": hosts_document(&row.site),
                "certificate": row.certificate.as_ref().map(|certificate| json!({
                    "state": certificate.state.word(),
                    "names": certificate.names,
                    "not_after": certificate.not_after.to_string(),
                })),
                "redirects": row.site.rules.redirects.len(),
                "stops_at": row.stops_at,
                "waiting": row.waiting.as_ref().map(|waiting| waiting.reason.clone()),
            })
        };
        let rows: Vec<Value> = self.sites.rows.iter().map(row).collect();
        let mut document = json!({ "command": "site list", "sites": rows });
        self.sites.counts_into(&mut document);
        document
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}

//! `certificate issue` and `certificate renew`: certificates from the CA for the names of sites that lead here, installed
//! and verified. What a dry run says is in `foreseen.rs`.

use brightharbor_core::certificate::securing::{SecureOutcome, Secured, Wanted};
use brightharbor_core::certificate::{CertificateRefusal, WishChange, keep_wish};
use brightharbor_core::change::{Plan, Remark};
use brightharbor_core::name::Host;
use brightharbor_core::site::Site;
use brightharbor_core::survey::Survey;
use brightharbor_io::acme::offered_profiles;
use brightharbor_io::harbor::Harbor;
use brightharbor_io::look::look;
use brightharbor_io::secure::secure_all;
use brightharbor_io::server::can_staple;
use clap::Args;
use serde_json::{Value, json};

use super::foreseen;
use super::wish::WishOptions;
use crate::commands::{Report, find_account, find_site, host};
use crate::error::{Error, Exit, advice_for_ca, tried};
use crate::options::ChangeOptions;
use crate::run::{Context, change};
use crate::show::human::{self, Page};
use crate::show::{Shown, json, words};

/// Obtain a certificate for each of these sites from the CA, install it and verify it by a TLS handshake.
///
/// Covers all names of a site whose DNS points to this server; the others are skipped, with the reason. Those of several
/// sites are ordered side by side, and installed by one change with one reload.
#[derive(Debug, Args)]
pub struct Issue {
    /// Hostnames of the sites.
    #[arg(required_unless_present_any = ["account", "all"], value_name = "HOSTNAME")]
    hostnames: Vec<String>,
    /// All sites of this account.
    #[arg(long, value_name = "ACCOUNT", conflicts_with = "hostnames")]
    account: Option<String>,
    /// All sites of the harbor.
    #[arg(long, conflicts_with_all = ["hostnames", "account"])]
    all: bool,
    #[command(flatten)]
    wish: WishOptions,
    /// Say which names would be covered, and do nothing.
    #[arg(long)]
    dry_run: bool,
    /// Do not ask for confirmation.
    #[arg(long)]
    yes: bool,
}

/// Obtain new certificates for sites although there are good ones, such as after keys were seen by others.
#[derive(Debug, Args)]
pub struct Renew {
    #[command(flatten)]
    issue: Issue,
}

pub fn renew(args: &Renew, context: &Context) -> Report {
    get(&args.issue, Wanted::New, context)
}

pub fn run(args: &Issue, context: &Context) -> Report {
    get(args, Wanted::Enough, context)
}

/// A site with how its certificate is to be obtained from now on.
struct Target {
    site: Site,
    wish: WishChange,
}

fn get(args: &Issue, wanted: Wanted, context: &Context) -> Report {
    let harbor = context.open()?;
    let targets = targets(args, &harbor)?;
    let mut wished = Vec::with_capacity(targets.len());
    for target in &targets {
        let site = target.wish.of_site(&target.site, &harbor.settings)?;
        let ca = harbor.settings.ca_named(site.rules.certificate.ca.as_deref());
        if ca.is_none_or(|ca| ca.directory.is_none()) {
            return Err(Error::refused("no-ca", "harbor.toml names no CA")
                .advice("set `directory` under [ca] in harbor.toml, and `terms-accepted` after reading its terms"));
        }
        wished.push(site);
    }
    if wished.iter().any(|site| site.rules.certificate.stapled) {
        can_staple(&harbor.settings, &harbor.layout).map_err(|reason| CertificateRefusal::CannotStaple { reason })?;
    }
    let mut asked: Vec<&str> = Vec::new();
    for (target, site) in targets.iter().zip(&wished) {
        let ca = site.rules.certificate.ca_word();
        if !asked.contains(&ca) {
            refuse_unoffered(&target.wish, site, &harbor, context)?;
            asked.push(ca);
        }
    }
    drop(harbor);
    if args.dry_run {
        let foreseen = context.block_on(foreseen::foresee_all(&context.open()?, wished, wanted))??;
        return foreseen::report(foreseen);
    }
    context.block_on(issue(context, &targets, wanted))?
}

/// The sites that are meant, each once.
fn targets(args: &Issue, harbor: &Harbor) -> Result<Vec<Target>, Error> {
    let sites = match &args.account {
        Some(typed) => harbor.store.sites(Some(&find_account(harbor, typed)?.name))?,
        None if args.all => harbor.store.sites(None)?,
        None => vec![],
    };
    let mut named: Vec<(Site, Host)> = sites.into_iter().map(|site| (site.clone(), site.main().clone())).collect();
    for typed in &args.hostnames {
        let name = host(typed)?;
        let site = find_site(harbor, &name)?;
        if !named.iter().any(|(known, _)| known.main() == site.main()) {
            named.push((site, name));
        }
    }
    if named.is_empty() {
        return Err(Error::refused("no-sites", "there are no sites to get certificates for")
            .advice("attach one: brightharbor attach HOSTNAME --account ACCOUNT"));
    }
    Ok(named.into_iter().map(|(site, name)| Target { site, wish: args.wish.change(&name) }).collect())
}

/// A profile that its CA does not offer would have every order refused.
fn refuse_unoffered(wish: &WishChange, site: &Site, harbor: &Harbor, context: &Context) -> Result<(), Error> {
    let ca = harbor.settings.ca_named(site.rules.certificate.ca.as_deref());
    let (Some(ca), Some(profile)) = (ca, wish.named_profile()) else { return Ok(()) };
    let offered = context.block_on(offered_profiles(ca, &harbor.layout, profile))?;
    let silent = |why| {
        let message = format!("the CA cannot be asked whether it offers the profile `{profile}`: {why}");
        Error::refused("ca-silent", message).advice(advice_for_ca("ca-silent"))
    };
    Ok(wish.refuse_unoffered(&offered.map_err(silent)?)?)
}

async fn issue(context: &Context, targets: &[Target], wanted: Wanted) -> Report {
    let title = match targets {
        [one] => format!("how the certificate of {} is obtained", one.site.main()),
        many => format!("how the certificates of {} sites are obtained", many.len()),
    };
    // Asked for by this very command, so that nobody is asked again.
    let yes = ChangeOptions { dry_run: false, yes: true };
    let (kept, sites) = change(context, &title, &yes, async |overlay, _| {
        let (mut plan, mut sites) = (Plan::new(&title), Vec::with_capacity(targets.len()));
        for Target { site, wish } in targets {
            let main = site.main();
            let site = overlay.site_of(main)?.ok_or_else(|| CertificateRefusal::Detached(main.clone()))?;
            plan.extend(keep_wish(&site, wish, &overlay.settings)?);
            sites.push(wish.of_site(&site, &overlay.settings)?);
        }
        Ok((plan, sites))
    })
    .await?;
    let all = context.work(async |door| secure_all(door, &sites, wanted).await).await?;
    let secured: Vec<Secured> = match sites.len() {
        1 => all.into_iter().collect::<Result<_, _>>()?,
        _ => sites.iter().zip(all).map(|(site, secured)| tried(site, secured)).collect(),
    };
    if let [Secured { site, outcome: SecureOutcome::Refused { why, .. }, .. }] = &secured[..] {
        return Err(foreseen::refused(site, why));
    }
    context.progress.doing("checking the links");
    let hosts: Vec<Host> = sites.iter().flat_map(|site| site.hostnames.clone()).collect();
    let surveys = look(&context.open()?, &hosts, None).await?.surveys;
    Ok(Box::new(Issued { remarks: kept.plan.remarks, secured, surveys }))
}

struct Issued {
    remarks: Vec<Remark>,
    secured: Vec<Secured>,
    surveys: Vec<Survey>,
}

impl Shown for Issued {
    fn human(&self, page: &mut Page) {
        human::remarks(page, &self.remarks, false);
        self.secured.iter().for_each(|secured| human::secured(page, secured));
        match self.secured.len() {
            1 => human::surveys(page, &self.surveys),
            _ => human::survey_list(page, &self.surveys),
        }
    }

    fn json(&self) -> Value {
        json!({
            "command": "certificate issue",
            "carried_out": true,
            "remarks": self.remarks.iter().map(|one| words::remark(one).document(true)).collect::<Vec<_>>(),
            "certificate": self.secured.first().map(json::SecuredDocument::from),
            "certificates": self.secured.iter().map(json::SecuredDocument::from).collect::<Vec<_>>(),
            "surveys": self.surveys.iter().map(json::SurveyDocument::from).collect::<Vec<_>>(),
        })
    }

    fn exit(&self) -> Exit {
        let served =
            |secured: &Secured| matches!(secured.outcome, SecureOutcome::Served { .. }) && secured.left_out.is_empty();
        let unseen = |secured: &Secured| matches!(secured.outcome, SecureOutcome::NotShown { .. });
        match () {
            () if self.secured.iter().any(unseen) => Exit::Fault,
            () if self.secured.iter().all(served) && self.surveys.iter().all(Survey::all_hold) => Exit::Done,
            () => Exit::Waits,
        }
    }
}

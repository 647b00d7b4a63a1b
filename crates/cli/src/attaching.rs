//! Attaching, from the decision to the links: used by `attach`, and by `account add` for its first domain.

use brightharbor_core::account::AccountName;
use brightharbor_core::certificate::due::is_awaited;
use brightharbor_core::certificate::securing::{SecureOutcome, Secured, Wanted};
use brightharbor_core::change::{Plan, Remark};
use brightharbor_core::name::{Host, Hostname};
use brightharbor_core::site::{
    AttachRequest, Attachment, ContentWish, ServedFrom, Site, SiteRefusal, ZoneChoice, attach as decide_attach,
    refuse_beyond_plan,
};
use brightharbor_core::survey::Survey;
use brightharbor_core::zone::ZoneDesign;
use brightharbor_io::load;
use brightharbor_io::look::look;
use brightharbor_io::overlay::Overlay;
use brightharbor_io::secure::secure_all;
use brightharbor_io::server::await_fingerprint;
use jiff::Timestamp;
use serde_json::{Value, json};

use crate::commands::Report;
use crate::error::{Error, Exit, tried};
use crate::options::ChangeOptions;
use crate::run::{Carried, Context, change};
use crate::show::human::{self, Page};
use crate::show::{Shown, exit_of, json};

/// More sites than this are left to `tend` and `survey`: walking the links of each would take long.
const MOST_FOLLOWED: usize = 20;

/// The first domain of a new account, with everything as usual.
pub fn first_domain(domain: Hostname, account: AccountName) -> AttachRequest {
    AttachRequest {
        hostname: domain.into(),
        account,
        zone: ZoneChoice::Here,
        design: ZoneDesign::plain(brightharbor_core::zone::Mail::Unsaid),
        www: None,
        place: ServedFrom::new_root(),
        content: ContentWish::default(),
    }
}

/// Attaches all of them by one change; `taken` says what was made of what was typed. All are of one account.
pub async fn attach(
    requests: Vec<AttachRequest>,
    taken: Vec<String>,
    options: &ChangeOptions,
    context: &Context,
) -> Report {
    let title = match &requests[..] {
        [one] => format!("attach {} --account {}", one.hostname, one.account),
        many => format!("attach {} and {} more --account {}", many[0].hostname, many.len() - 1, many[0].account),
    };
    let (carried, touched) =
        change(context, &title, options, async |overlay, now| decide(overlay, &requests, &taken, &title, now).await)
            .await?;
    let mut report = Attached { carried, secured: vec![], not_walked: None, surveys: vec![] };
    if report.carried.entry.is_some() {
        // The reload is over when one of them is served: whatever comes next sees all of them.
        await_fingerprint(&context.open()?.settings, &touched.sites[0], report.carried.took).await;
        report.not_walked = match touched.sites.len() {
            many if many > MOST_FOLLOWED => Some(NotWalked::Many(many)),
            // The hostnames are attached; what could not be looked at is told, and `tend` goes on.
            _ => follow_up(context, &touched, &mut report).await.err().map(NotWalked::Failed),
        };
    }
    Ok(Box::new(report))
}

/// Each request is decided on top of those before it.
async fn decide(
    overlay: &mut Overlay<'_>,
    requests: &[AttachRequest],
    taken: &[String],
    title: &str,
    now: Timestamp,
) -> Result<(Plan, Touched), Error> {
    let mut plan = Plan::new(title);
    taken.iter().for_each(|words| plan.remark(Remark::Taken(words.clone())));
    let mut touched = Touched::default();
    let mut decided_so_far = Vec::with_capacity(requests.len());
    refuse_beyond_plan(requests, overlay.limit(&requests[0].account)?.as_ref())?;
    load::ask_ahead(overlay, requests).await?;
    for request in requests {
        let loaded = load::attach(overlay, request).await?;
        let decided: Result<Attachment, SiteRefusal> =
            decide_attach(request, &loaded, &overlay.settings, &overlay.layout, now);
        let Attachment { site, hosts, plan: one } = decided?;
        overlay.take(&one.set);
        decided_so_far.push(one);
        touched.sites.retain(|other| other.main() != site.main());
        touched.sites.push(site);
        touched.hosts.extend(hosts);
    }
    plan.extend_all(decided_so_far);
    Ok((plan, touched))
}

/// What was attached: the sites as they will be, and the hosts that are new.
#[derive(Default)]
struct Touched {
    sites: Vec<Site>,
    hosts: Vec<Host>,
}

/// After the change: certificates where the links allow it, then the links of the new hosts as they are. All of them are
/// looked at side by side.
async fn follow_up(context: &Context, touched: &Touched, report: &mut Attached) -> Result<(), Error> {
    let harbor = context.open()?;
    let mut awaiting = Vec::new();
    for site in &touched.sites {
        let certificate = harbor.store.certificate_of(site.main())?;
        let is_kept = harbor.store.site_of(site.main())?.is_some();
        if is_kept && is_awaited(site, certificate.as_ref(), &harbor.settings) {
            awaiting.push(site.clone());
        }
    }
    drop(harbor);
    let secured = context.work(async |door| secure_all(door, &awaiting, Wanted::Enough).await).await?;
    report.secured.extend(awaiting.iter().zip(secured).map(|(site, secured)| tried(site, secured)));
    context.progress.doing("checking the links");
    report.surveys = look(&context.open()?, &touched.hosts, None).await?.surveys;
    Ok(())
}

/// Why links were not walked.
enum NotWalked {
    /// There are too many sites.
    Many(usize),
    Failed(Error),
}

struct Attached {
    carried: Carried,
    secured: Vec<Secured>,
    not_walked: Option<NotWalked>,
    surveys: Vec<Survey>,
}

impl Shown for Attached {
    fn human(&self, page: &mut Page) {
        human::change_report(page, &self.carried);
        // Without a name that leads here there is nothing to tell that the links do not tell themselves.
        for secured in self.secured.iter().filter(|secured| secured.outcome != SecureOutcome::NotYet) {
            human::secured(page, secured);
        }
        match &self.not_walked {
            Some(NotWalked::Many(sites)) => {
                let words = format!("links not checked ({sites} sites); `brightharbor tend` continues with each");
                page.hanging("note: ", &words);
            }
            Some(NotWalked::Failed(error)) => {
                page.hanging("note: ", &format!("links not checked: {}", error.message));
            }
            None => {}
        }
        human::surveys(page, &self.surveys);
    }

    fn json(&self) -> Value {
        let not_walked = self.not_walked.as_ref().map(|why| match why {
            NotWalked::Many(sites) => json!({ "code": "many-sites", "sites": sites }),
            NotWalked::Failed(error) => json!({ "code": error.code, "text": error.message }),
        });
        json!({
            "command": "attach",
            "change": json::ChangeDocument::from(&self.carried),
            "certificate": self.secured.first().map(json::SecuredDocument::from),
            "certificates": self.secured.iter().map(json::SecuredDocument::from).collect::<Vec<_>>(),
            "links_not_checked": not_walked,
            "surveys": self.surveys.iter().map(json::SurveyDocument::from).collect::<Vec<_>>(),
        })
    }

    fn exit(&self) -> Exit {
        let waits = self.not_walked.is_some() || self.surveys.iter().any(|survey| !survey.all_hold());
        match self.carried.entry {
            Some(_) if waits => exit_of(&self.surveys, Exit::Waits),
            _ => self.carried.exit(Exit::Done),
        }
    }
}

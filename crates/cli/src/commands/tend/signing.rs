//! The part of `tend` about zones that the DNS server signs: what the parent has of their keys is told to the server, so that
//! rolls go on, and a DS that is wanted and missing is named.

use brightharbor_core::delegation::Ds;
use brightharbor_core::harbor::DnsServer;
use brightharbor_core::name::Hostname;
use brightharbor_core::zone::{ParentNews, Signing, Zone, key_states, parent_news, remember_parent};
use brightharbor_io::clock;
use brightharbor_io::harbor::Harbor;
use brightharbor_io::load::{ds_at_parent, key_answers};
use brightharbor_io::server::{ServerError, tell_of_parent};
use serde_json::{Value, json};

use crate::error::Error;
use crate::options::ChangeOptions;
use crate::run::{Context, change};
use crate::show::human::Page;

/// What there is to tell of one zone.
pub(super) struct Watched {
    pub zone: Hostname,
    /// The server heard that the parent has or lacks the DS of these keys.
    pub published: Vec<u16>,
    pub withdrawn: Vec<u16>,
    /// DS records that the server asks for and that the parent lacks.
    pub missing: Vec<Ds>,
    /// What could not be found out, or be told to the server.
    pub problem: Option<String>,
}

impl Watched {
    fn is_worth_telling(&self) -> bool {
        let nothing = self.published.is_empty() && self.withdrawn.is_empty() && self.missing.is_empty();
        !nothing || self.problem.is_some()
    }

    pub fn document(&self) -> Value {
        json!({
            "zone": self.zone,
            "ds_published": self.published,
            "ds_withdrawn": self.withdrawn,
            "ds_missing": self.missing.iter().map(Ds::text).collect::<Vec<_>>(),
            "problem": self.problem,
        })
    }
}

/// Looks after each of them.
pub(super) async fn watch(context: &Context) -> Result<Vec<Watched>, Error> {
    let harbor = context.open()?;
    let mut all = Vec::new();
    for zone in harbor.store.zones()? {
        let Some(signing) = zone.signing.clone() else { continue };
        let watched = watch_one(context, &harbor, zone, &signing).await?;
        all.extend(Some(watched).filter(Watched::is_worth_telling));
    }
    Ok(all)
}

async fn watch_one(context: &Context, harbor: &Harbor, zone: Zone, signing: &Signing) -> Result<Watched, Error> {
    let (settings, now) = (&harbor.settings, clock::now());
    let mut watched =
        Watched { zone: zone.name.clone(), published: vec![], withdrawn: vec![], missing: vec![], problem: None };
    let parent = match ds_at_parent(settings, &zone.name).await {
        Ok(parent) => parent,
        Err(why) => {
            watched.problem = Some(format!("what the parent has of its keys is not known: {why}"));
            return Ok(watched);
        }
    };
    if let Some(server) = settings.dns.address
        && let Ok(answers) = key_answers(server, &zone.name.dns_name()).await
    {
        let domain = zone.name.dns_name();
        let states = key_states(&domain, &answers, Some(&parent), now);
        let lacks = states.iter().filter(|state| state.lacks_ds());
        watched.missing = lacks.map(|state| state.key.ds(&domain)).collect();
    }
    let news = parent_news(signing, &parent, now);
    if !(news.published.is_empty() && news.withdrawn.is_empty()) {
        match tell_of_parent(settings, &zone.name, &news).await {
            // Knot DNS says so where no key waits for its DS: there is nothing to tell then.
            Err(ServerError::Refused { .. }) if settings.dns.server == DnsServer::Knot => {}
            Err(error) => {
                // Told again by the next run.
                watched.problem = Some(format!("the server could not be told what the parent has: {error}"));
                return Ok(watched);
            }
            Ok(()) => (watched.published, watched.withdrawn) = (news.published.clone(), news.withdrawn.clone()),
        }
    }
    remember(context, zone, signing, news).await?;
    Ok(watched)
}

/// Once the server has heard it.
async fn remember(context: &Context, zone: Zone, signing: &Signing, news: ParentNews) -> Result<(), Error> {
    let Some(seen) = news.seen else { return Ok(()) };
    let yes = ChangeOptions { dry_run: false, yes: true };
    let title = format!("tend: what the parent has of the keys of {}", zone.name);
    change(context, &title, &yes, async |overlay, _| {
        // Somebody may have switched it off meanwhile.
        let present = overlay.zone(&zone.name)?.filter(|present| present.signing.as_deref() == Some(signing));
        Ok((remember_parent(&title, present, &seen), ()))
    })
    .await?;
    Ok(())
}

pub(super) fn show_signing(page: &mut Page, watched: &Watched) {
    let zone = &watched.zone;
    let tags = |tags: &[u16]| tags.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
    if !watched.published.is_empty() {
        let keys = tags(&watched.published);
        page.hanging("", &format!("{zone}: the parent has the DS of {keys} by now; the server was told"));
    }
    if !watched.withdrawn.is_empty() {
        let keys = tags(&watched.withdrawn);
        page.hanging("", &format!("{zone}: the parent has the DS of {keys} no more; the server was told"));
    }
    if !watched.missing.is_empty() {
        let keys = tags(&watched.missing.iter().map(|ds| ds.key_tag).collect::<Vec<_>>());
        page.hanging("", &format!("{zone}: the server wants a DS of {keys} at the parent, where it is not yet"));
        page.hanging("  next: ", &format!("brightharbor delegation handover {zone}"));
    }
    if let Some(problem) = &watched.problem {
        page.hanging("", &format!("{zone}: {problem}"));
    }
}

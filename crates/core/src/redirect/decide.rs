//! The decisions to add, remove and end redirects of sites.

use std::collections::BTreeMap;

use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;

use super::{AddRefused, Ports, Redirect, RedirectRemark, Source, Target, add};
use crate::account::{AccountName, AccountPlan, Counted, LimitReached, Usage, check_limit};
use crate::change::{Consent, ExistingFile, Plan};
use crate::harbor::{Layout, Settings};
use crate::name::Host;
use crate::site::{Site, change_site};

/// What was asked for.
#[derive(Debug, Clone)]
pub struct AddRedirects {
    pub sources: Sources,
    pub target: Target,
    /// As it was typed.
    pub typed: String,
    pub status: u16,
    pub keep_path: bool,
    pub with_twin: bool,
    pub until: Option<Timestamp>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Sources {
    One(Source),
    /// All hostnames of an account.
    AllOf(AccountName),
}

/// What the decision rests on.
#[derive(Debug, Clone, Default)]
pub struct AddRedirectsLoaded {
    /// The sites with their files.
    pub sites: Vec<(Site, ExistingFile)>,
    /// What the account may have and has, where it has a plan.
    pub limit: Option<(AccountPlan, Usage)>,
    /// The other sites that a visitor may come by; `None`: the name is not attached.
    pub others: BTreeMap<Host, Option<Site>>,
}

/// Why it is refused, or what has to be known first.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RedirectRefusal {
    /// The site of this name has to be loaded: a visitor may come by.
    NotLoaded(Host),
    NotAttached(Host),
    NoSites(AccountName),
    NotThere(Source),
    Limit(LimitReached),
    /// The last day is over already.
    Past(Date),
    Add(AddRefused),
}

/// Decides new redirects.
pub fn add_redirects(
    request: &AddRedirects,
    loaded: &AddRedirectsLoaded,
    settings: &Settings,
    layout: &Layout,
    now: Timestamp,
) -> Result<Plan, RedirectRefusal> {
    if let Some(until) = request.until.filter(|until| *until <= now) {
        let day = until.to_zoned(TimeZone::UTC).date();
        return Err(RedirectRefusal::Past(day.yesterday().unwrap_or(day)));
    }
    let ports = Ports { http: settings.internet.http_port(), https: settings.internet.https_port() };
    let title = match &request.sources {
        Sources::One(source) => format!("redirect add {source} {}", request.target.text()),
        Sources::AllOf(account) => format!("redirect add --all-of {account} {}", request.target.text()),
    };
    let Some((first, _)) = loaded.sites.first() else {
        return Err(match &request.sources {
            Sources::One(source) => RedirectRefusal::NotAttached(source.host.clone()),
            Sources::AllOf(account) => RedirectRefusal::NoSites(account.clone()),
        });
    };
    if let Some((limits, usage)) = &loaded.limit {
        let more: usize = loaded.sites.iter().map(|(site, _)| sources(request, site).len()).sum();
        let more = u32::try_from(more).unwrap_or(u32::MAX);
        check_limit(&first.account, limits, usage, Counted::Redirects, more).map_err(RedirectRefusal::Limit)?;
    }
    let mut plan = Plan::new(title);
    if request.target.is_written_otherwise(&request.typed) {
        let (typed, target) = (request.typed.clone(), request.target.clone());
        plan.remark(RedirectRemark::TargetWritten { typed, target });
    }
    for (site, file) in &loaded.sites {
        let mut after = site.clone();
        for (source, with_twin) in sources(request, site) {
            let redirect = Redirect {
                source: source.clone(),
                target: request.target.clone(),
                status: request.status,
                keep_path: request.keep_path,
                with_twin,
                until: request.until,
            };
            let known = |host: &Host| loaded.others.get(host).cloned().ok_or_else(|| host.clone());
            let added = add(&after, &redirect, ports, known).map_err(RedirectRefusal::NotLoaded)?;
            let (with, risks) = added.map_err(RedirectRefusal::Add)?;
            after = with;
            plan.remark(RedirectRemark::Added(redirect));
            for risk in risks {
                plan.remark(RedirectRemark::Risk { source: source.clone(), risk });
            }
        }
        change_site(&mut plan, site, &after, file.clone(), settings, layout);
    }
    Ok(plan)
}

/// From where a site's visitors are sent away, and whether from the twin too.
fn sources(request: &AddRedirects, site: &Site) -> Vec<(Source, bool)> {
    match &request.sources {
        Sources::One(source) => vec![(source.clone(), request.with_twin)],
        Sources::AllOf(_) => {
            let is_there = |host: Option<Host>| host.is_some_and(|host| site.hostnames.contains(&host));
            let first = site.hostnames.iter().filter(|host| !is_there(host.without_www()));
            let whole = |host: &Host| Source { host: host.clone(), path: "/".into(), prefix: true };
            first.map(|host| (whole(host), is_there(host.with_www()))).collect()
        }
    }
}

/// Whether a redirect is one that a source as typed names: by host and path; `/` and the whole host are two.
pub fn is_named(redirect: &Redirect, source: &Source) -> bool {
    redirect.is_for(&source.host)
        && redirect.source.path == source.path
        && redirect.source.is_whole_host() == source.is_whole_host()
}

/// Decides that the redirects of a source go. One that is for the twin as well stays for that, unless it goes `with_twin`.
pub fn remove_redirects(
    source: &Source,
    with_twin: bool,
    site: Option<&(Site, ExistingFile)>,
    settings: &Settings,
    layout: &Layout,
) -> Result<Plan, RedirectRefusal> {
    let (site, file) = site.ok_or_else(|| RedirectRefusal::NotAttached(source.host.clone()))?;
    let gone: Vec<&Redirect> = site.rules.redirects.iter().filter(|redirect| is_named(redirect, source)).collect();
    if gone.is_empty() {
        return Err(RedirectRefusal::NotThere(source.clone()));
    }
    let mut after = site.clone();
    after.rules.redirects =
        site.rules.redirects.iter().filter_map(|one| without(one, source, with_twin, site)).collect();
    let mut plan = Plan::new(format!("redirect remove {source}"));
    let stays = after.rules.redirects.iter().filter(|one| !site.rules.redirects.contains(one));
    let stays: Vec<Redirect> = stays.cloned().collect();
    change_site(&mut plan, site, &after, file.clone(), settings, layout);
    let was_permanent = gone.iter().any(|redirect| matches!(redirect.status, 301 | 308));
    plan.remark(RedirectRemark::Removed { source: source.clone(), was_permanent });
    for redirect in stays {
        plan.remark(RedirectRemark::Stays(redirect));
    }
    Ok(plan)
}

/// What is left of a redirect when a source goes.
fn without(redirect: &Redirect, source: &Source, with_twin: bool, site: &Site) -> Option<Redirect> {
    if !is_named(redirect, source) {
        return Some(redirect.clone());
    }
    let hosts = [Some(redirect.source.host.clone()), redirect.twin()];
    let other = hosts.into_iter().flatten().find(|host| *host != source.host && site.hostnames.contains(host));
    let host = other.filter(|_| redirect.with_twin && !with_twin)?;
    Some(Redirect { with_twin: false, source: Source { host, ..redirect.source.clone() }, ..redirect.clone() })
}

/// A site whose redirects should have ended, and whose file nobody may touch unasked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StuckRedirect {
    pub site: Host,
    pub consent: Consent,
}

/// Decides that the redirects go whose last day is over. A file that was edited by hand is left alone.
pub fn end_redirects(
    sites: &[(Site, ExistingFile)],
    settings: &Settings,
    layout: &Layout,
    now: Timestamp,
) -> (Plan, Vec<StuckRedirect>) {
    let (mut plan, mut stuck) = (Plan::new("tend: end redirects"), Vec::new());
    let is_over = |redirect: &Redirect| redirect.until.is_some_and(|until| until <= now);
    for (site, file) in sites {
        let mut after = site.clone();
        after.rules.redirects.retain(|redirect| !is_over(redirect));
        if after == *site {
            continue;
        }
        let mut one = Plan::new("end redirects");
        change_site(&mut one, site, &after, file.clone(), settings, layout);
        if let Some(consent) = one.consents.first() {
            stuck.push(StuckRedirect { site: site.main().clone(), consent: consent.clone() });
            continue;
        }
        for redirect in site.rules.redirects.iter().filter(|redirect| is_over(redirect)) {
            one.remark(RedirectRemark::Ended { source: redirect.source.clone() });
        }
        plan.extend(one);
    }
    (plan, stuck)
}

#[cfg(test)]
#[path = "decide_tests.rs"]
mod tests;

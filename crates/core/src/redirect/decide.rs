//! The decisions to add, remove and end redirects of sites.

use std::collections::BTreeMap;

use jiff::Timestamp;

use super::{AddRefused, Ports, Redirect, RedirectRemark, Sides, Source, Target, add};
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
    pub status: u16,
    pub keep_path: bool,
    pub sides: Sides,
    pub until: Option<Timestamp>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Sources {
    One(Source),
    /// All sites of an account, each from its main name on.
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
    Add(AddRefused),
}

/// Decides new redirects.
pub fn add_redirects(
    request: &AddRedirects,
    loaded: &AddRedirectsLoaded,
    settings: &Settings,
    layout: &Layout,
) -> Result<Plan, RedirectRefusal> {
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
        let more = u32::try_from(loaded.sites.len()).unwrap_or(u32::MAX);
        check_limit(&first.account, limits, usage, Counted::Redirects, more).map_err(RedirectRefusal::Limit)?;
    }
    let mut plan = Plan::new(title);
    for (site, file) in &loaded.sites {
        let source = match &request.sources {
            Sources::One(source) => source.clone(),
            Sources::AllOf(_) => from_main(site),
        };
        let redirect = Redirect {
            source: source.clone(),
            target: request.target.clone(),
            status: request.status,
            keep_path: request.keep_path,
            sides: request.sides,
            until: request.until,
        };
        let known = |host: &Host| loaded.others.get(host).cloned().ok_or_else(|| host.clone());
        let added = add(site, &redirect, ports, known).map_err(RedirectRefusal::NotLoaded)?;
        let (after, risks) = added.map_err(RedirectRefusal::Add)?;
        change_site(&mut plan, site, &after, file.clone(), settings, layout);
        plan.remark(RedirectRemark::Added(redirect));
        for risk in risks {
            plan.remark(RedirectRemark::Risk { source: source.clone(), risk });
        }
    }
    Ok(plan)
}

fn from_main(site: &Site) -> Source {
    let host = site.main().without_www().unwrap_or_else(|| site.main().clone());
    Source { host, path: "/".into(), prefix: true }
}

/// Whether a redirect is the one that a source as typed names: by host and path, whichever side and depth.
pub fn is_named(redirect: &Redirect, source: &Source) -> bool {
    redirect.source.host == source.host && redirect.source.path == source.path
}

/// Decides that the redirects of a source go.
pub fn remove_redirects(
    source: &Source,
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
    after.rules.redirects.retain(|redirect| !is_named(redirect, source));
    let mut plan = Plan::new(format!("redirect remove {source}"));
    change_site(&mut plan, site, &after, file.clone(), settings, layout);
    let was_permanent = gone.iter().any(|redirect| matches!(redirect.status, 301 | 308));
    plan.remark(RedirectRemark::Removed { source: source.clone(), was_permanent });
    Ok(plan)
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
mod tests {
    use super::*;
    use crate::account::Limits;
    use crate::change::Remark;
    use crate::harbor::WebServer;
    use crate::site::{HttpsStates, SiteKind, SiteRules};

    fn site(domain: &str) -> Site {
        Site {
            account: AccountName::parse("boatyard").unwrap(),
            hostnames: vec![Host::parse(domain).unwrap()],
            document_root: "/home/boatyard/www".into(),
            kind: SiteKind::AddonDomain,
            https: HttpsStates::default(),
            certificate: None,
            rules: SiteRules::default(),
        }
    }

    fn settings() -> Settings {
        let mut settings = Settings::default();
        settings.web.server = WebServer::Nginx;
        settings
    }

    fn layout() -> Layout {
        Layout::new("/harbor")
    }

    fn request(sources: Sources, target: &str) -> AddRedirects {
        AddRedirects {
            sources,
            target: Target::parse(target, false).unwrap(),
            status: 301,
            keep_path: false,
            sides: Sides::Both,
            until: Some("2026-12-25T00:00:00Z".parse().unwrap()),
        }
    }

    fn source(text: &str) -> Source {
        Source::parse(text, false).unwrap()
    }

    fn added(site: &Site, path: &str) -> Site {
        let request = request(Sources::One(source(path)), "/new");
        let loaded = AddRedirectsLoaded { sites: vec![(site.clone(), None)], ..AddRedirectsLoaded::default() };
        let plan = add_redirects(&request, &loaded, &settings(), &layout()).unwrap();
        let mut all = plan.set.inventory_changes().filter_map(|change| match change {
            crate::change::InventoryChange::ReplaceSite { after, .. } => Some(after.clone()),
            _ => None,
        });
        all.next().unwrap()
    }

    #[test]
    fn the_last_day_is_the_one_before_the_moment_it_ends() {
        let with = added(&site("gullrock.example"), "gullrock.example/old");
        assert_eq!(with.rules.redirects[0].last_day().unwrap().to_string(), "2026-12-24");
    }

    #[test]
    fn the_sites_on_a_visitors_way_are_asked_for_one_by_one() {
        let request = request(Sources::One(source("gullrock.example/old")), "https://quay.example/boats");
        let mut loaded = AddRedirectsLoaded { sites: vec![(site("gullrock.example"), None)], ..Default::default() };
        let quay = Host::parse("quay.example").unwrap();
        let decide = |loaded: &AddRedirectsLoaded| add_redirects(&request, loaded, &settings(), &layout());
        assert_eq!(decide(&loaded), Err(RedirectRefusal::NotLoaded(quay.clone())));
        loaded.others.insert(quay, None);
        assert!(decide(&loaded).is_ok());
        let small = AccountPlan {
            name: AccountName::parse("small").unwrap(),
            limits: Limits { redirects: Some(0), ..Limits::default() },
        };
        loaded.limit = Some((small, Usage::default()));
        assert!(matches!(decide(&loaded), Err(RedirectRefusal::Limit(_))));
    }

    #[test]
    fn all_sites_of_an_account_are_sent_on_from_their_main_names() {
        let account = AccountName::parse("boatyard").unwrap();
        let request = request(Sources::AllOf(account.clone()), "/closed");
        let sites = vec![(site("gullrock.example"), None), (site("quay.example"), None)];
        let loaded = AddRedirectsLoaded { sites, ..Default::default() };
        // Everything below `/` leads to `/closed`, which lies below `/` as well.
        assert!(matches!(add_redirects(&request, &loaded, &settings(), &layout()), Err(RedirectRefusal::Add(_))));
        let none = add_redirects(&request, &AddRedirectsLoaded::default(), &settings(), &layout());
        assert_eq!(none, Err(RedirectRefusal::NoSites(account)));
    }

    #[test]
    fn what_is_removed_is_named_and_what_is_over_ends_unless_somebody_edits_the_file() {
        let with = added(&site("gullrock.example"), "gullrock.example/old");
        let named = source("gullrock.example/old");
        let plan = remove_redirects(&named, Some(&(with.clone(), None)), &settings(), &layout()).unwrap();
        let removed = RedirectRemark::Removed { source: named.clone(), was_permanent: true };
        assert_eq!(plan.remarks, [Remark::from(removed)]);
        let other = source("gullrock.example/other");
        let refused = remove_redirects(&other, Some(&(with.clone(), None)), &settings(), &layout());
        assert_eq!(refused, Err(RedirectRefusal::NotThere(other.clone())));
        assert!(matches!(remove_redirects(&other, None, &settings(), &layout()), Err(RedirectRefusal::NotAttached(_))));
        let at = |now: &str, file: Option<&str>| {
            let sites = [(with.clone(), file.map(|text| text.as_bytes().to_vec()))];
            let (plan, stuck) = end_redirects(&sites, &settings(), &layout(), now.parse().unwrap());
            (plan.remarks.len(), stuck.len())
        };
        assert_eq!(at("2026-12-24T23:59:59Z", None), (0, 0));
        assert_eq!(at("2026-12-25T00:00:00Z", None), (1, 0));
        assert_eq!(at("2026-12-25T00:00:00Z", Some("edited by hand")), (0, 1));
    }
}

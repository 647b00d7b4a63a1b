//! What has to be done so that a harbor has what a listing names: single steps in the words of the commands, in an order in
//! which each finds what it needs. What is there already as it is wanted is no step.

use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;

use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;

use super::{ListedAccount, ListedRedirect, ListedSite, ListedZone, Listing, Whole};
use crate::account::{
    Account, AccountName, AddAccount, ChangeAccount, LimitWishes, Limits, UserWish, check_email, check_system_user,
};
use crate::name::{Host, Hostname};
use crate::redirect::{AddRedirects, Redirect, Source, Sources, Target, check_status, is_named};
use crate::site::{
    AttachRequest, Cached, ChangeSite, Content, ContentWish, ServedFrom, Site, TlsFloor, WwwPolicy, ZoneChoice,
    parse_names, parse_part, parse_path,
};
use crate::zone::{Mail, ZoneDesign};

/// What the harbor has.
#[derive(Debug, Clone, Default)]
pub struct Present {
    pub plans: BTreeMap<AccountName, Limits>,
    pub accounts: BTreeMap<AccountName, Account>,
    pub sites: Vec<Site>,
}

/// One thing to do.
#[derive(Debug, Clone)]
pub enum Step {
    /// A new plan, or other limits of one.
    Plan {
        name: AccountName,
        is_new: bool,
        limits: LimitWishes,
    },
    AddAccount(AddAccount),
    ChangeAccount(AccountName, ChangeAccount),
    HandOver {
        site: Host,
        to: AccountName,
    },
    Attach(AttachRequest),
    ChangeSite(Host, ChangeSite),
    Detach {
        site: Host,
        names: Vec<Host>,
    },
    RemoveRedirect(Source),
    AddRedirect(AddRedirects),
}

/// How many of a table come, change, stay and go.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Counts {
    pub added: usize,
    pub changed: usize,
    pub same: usize,
    pub gone: usize,
}

#[derive(Debug, Clone, Default)]
pub struct Compared {
    pub steps: Vec<Step>,
    pub plans: Counts,
    pub accounts: Counts,
    pub sites: Counts,
    pub redirects: Counts,
    /// Sites whose HSTS has to wait until all their names are served over https.
    pub later: Vec<Host>,
}

/// What cannot be understood, and in which entry of the file.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{entry}: {reason}")]
pub struct ListingError {
    pub entry: String,
    pub reason: String,
}

/// Says what has to be done.
pub fn compare(listing: &Listing, present: &Present) -> Result<Compared, ListingError> {
    let mut compared = Compared::default();
    plans(listing, present, &mut compared);
    accounts(listing, present, &mut compared)?;
    let by_name: BTreeMap<&Host, &Site> =
        present.sites.iter().flat_map(|site| site.hostnames.iter().map(move |name| (name, site))).collect();
    sites(listing, present, &by_name, &mut compared)?;
    redirects(listing, present, &by_name, &mut compared)?;
    Ok(compared)
}

fn wrong<E: ToString>(entry: String) -> impl FnOnce(E) -> ListingError {
    move |error| ListingError { entry, reason: error.to_string() }
}

fn plans(listing: &Listing, present: &Present, compared: &mut Compared) {
    for (name, listed) in &listing.plans {
        let (limits, found) = (Limits::from(*listed), present.plans.get(name));
        match found {
            Some(found) if *found == limits => compared.plans.same += 1,
            Some(_) => compared.plans.changed += 1,
            None => compared.plans.added += 1,
        }
        if found != Some(&limits) {
            let is_new = found.is_none();
            compared.steps.push(Step::Plan { name: name.clone(), is_new, limits: LimitWishes::all(limits) });
        }
    }
}

fn accounts(listing: &Listing, present: &Present, compared: &mut Compared) -> Result<(), ListingError> {
    let mut left: Vec<(&AccountName, &ListedAccount)> = listing.accounts.iter().collect();
    // A reseller comes before those that it sold; a circle is refused where it is decided.
    let mut known: BTreeSet<&AccountName> = present.accounts.keys().collect();
    while !left.is_empty() {
        let is_ready = |(_, listed): &(&AccountName, &ListedAccount)| {
            listed.reseller.as_ref().is_none_or(|one| known.contains(one))
        };
        let at = left.iter().position(is_ready).unwrap_or(0);
        let (name, listed) = left.remove(at);
        known.insert(name);
        account(name, listed, present.accounts.get(name), compared)?;
    }
    Ok(())
}

fn account(
    name: &AccountName,
    listed: &ListedAccount,
    found: Option<&Account>,
    compared: &mut Compared,
) -> Result<(), ListingError> {
    let entry = || format!("accounts.{name}");
    check_email(&listed.email).map_err(wrong(entry()))?;
    listed.system_user.as_deref().map(check_system_user).transpose().map_err(wrong(entry()))?;
    let user = |name: &String| UserWish { name: Some(name.clone()), create: false };
    let Some(found) = found else {
        compared.accounts.added += 1;
        compared.steps.push(Step::AddAccount(AddAccount {
            name: name.clone(),
            email: listed.email.clone(),
            home: listed.home.clone(),
            existing: listed.existing,
            user: listed.system_user.as_ref().map(user).unwrap_or_default(),
            plan: listed.plan.clone(),
            nameserver_set: listed.nameserver_set.clone(),
            reseller: listed.reseller.clone(),
            domain: None,
        }));
        return Ok(());
    };
    let differs =
        |wanted: &Option<AccountName>, found: &Option<AccountName>| wanted.clone().filter(|_| wanted != found);
    let change = ChangeAccount {
        email: Some(listed.email.clone()).filter(|email| *email != found.email),
        plan: differs(&listed.plan, &found.plan).map(Some),
        nameserver_set: listed
            .nameserver_set
            .clone()
            .filter(|_| listed.nameserver_set != found.nameserver_set)
            .map(Some),
        reseller: differs(&listed.reseller, &found.reseller).map(Some),
        user: listed.system_user.as_ref().filter(|_| listed.system_user != found.system_user).map(user),
        home: listed.home.clone().filter(|home| *home != found.home),
    };
    if change.is_empty() {
        compared.accounts.same += 1;
    } else {
        compared.accounts.changed += 1;
        compared.steps.push(Step::ChangeAccount(name.clone(), change));
    }
    Ok(())
}

fn sites(
    listing: &Listing,
    present: &Present,
    by_name: &BTreeMap<&Host, &Site>,
    compared: &mut Compared,
) -> Result<(), ListingError> {
    // A domain before names below it: its zone holds their records.
    let mut listed: Vec<(&Host, &ListedSite)> = listing.sites.iter().collect();
    listed.sort_by_key(|(main, _)| (main.as_str().matches('.').count(), *main));
    let (mut attached, mut changed) = (Vec::new(), Vec::new());
    for (main, site) in listed {
        let entry = || format!("sites.\"{main}\"");
        let found = by_name.get(main).copied().filter(|found| found.main() == main);
        let steps = attached.len() + changed.len();
        let before = found.map(|found| Content::clone(&found.rules.content)).unwrap_or_default();
        let content = content(site, &before).map_err(wrong(entry()))?;
        let is_there = |name: &&Host| found.is_some_and(|found| found.hostnames.contains(name));
        if found.is_none() {
            attached.push(Step::Attach(AttachRequest {
                hostname: main.clone(),
                account: site.account.clone(),
                zone: zone_of(site),
                design: ZoneDesign::plain(Mail::Unsaid),
                www: site.www,
                place: ServedFrom::OwnRoot { given: site.document_root.clone(), existing: site.existing },
                content: content.clone(),
            }));
        } else if found.is_some_and(|found| found.account != site.account) {
            changed.push(Step::HandOver { site: main.clone(), to: site.account.clone() });
        }
        for name in site.names.iter().filter(|name| !is_there(name)) {
            attached.push(Step::Attach(AttachRequest {
                hostname: name.clone(),
                account: site.account.clone(),
                zone: zone_of(site),
                design: ZoneDesign::plain(Mail::Unsaid),
                www: None,
                place: ServedFrom::SameAs(main.clone()),
                content: ContentWish::default(),
            }));
        }
        let change = rules(main, site, found, content, present, compared);
        if !change.is_empty() {
            changed.push(Step::ChangeSite(main.clone(), change));
        }
        if let Some(found) = found.filter(|_| listing.whole.contains(&Whole::Sites)) {
            let gone = names_gone(site, found);
            if !gone.is_empty() {
                changed.push(Step::Detach { site: main.clone(), names: gone });
            }
        }
        match found {
            None => compared.sites.added += 1,
            Some(_) if attached.len() + changed.len() > steps => compared.sites.changed += 1,
            Some(_) => compared.sites.same += 1,
        }
    }
    compared.steps.extend(attached);
    compared.steps.extend(changed);
    if listing.whole.contains(&Whole::Sites) {
        for site in present.sites.iter().filter(|site| !listing.sites.contains_key(site.main())) {
            compared.sites.gone += 1;
            compared.steps.push(Step::Detach { site: site.main().clone(), names: vec![site.main().clone()] });
        }
    }
    Ok(())
}

fn zone_of(site: &ListedSite) -> ZoneChoice {
    match site.zone {
        Some(ListedZone::Elsewhere) => ZoneChoice::Elsewhere,
        Some(ListedZone::Here) | None => ZoneChoice::Here,
    }
}

/// The names of a site that the listing does not have: neither themselves nor as twins.
fn names_gone(site: &ListedSite, found: &Site) -> Vec<Host> {
    let is_listed = |name: &Host| name == found.main() || site.names.contains(name);
    let stays = |name: &Host| is_listed(name) || name.without_www().is_some_and(|bare| is_listed(&bare));
    found.hostnames.iter().filter(|name| !stays(name)).cloned().collect()
}

/// How the site is to be served otherwise than it is, or will be once it is attached.
fn rules(
    main: &Host,
    site: &ListedSite,
    found: Option<&Site>,
    content: ContentWish,
    present: &Present,
    compared: &mut Compared,
) -> ChangeSite {
    let rules = found.map(|found| found.rules.clone()).unwrap_or_default();
    let root = |given: &PathBuf| -> Option<PathBuf> {
        let (found, account) = (found?, present.accounts.get(&site.account)?);
        (account.home.join(given) != found.document_root).then(|| given.clone())
    };
    let hsts = site.hsts.map(|seconds| Some(seconds).filter(|seconds| *seconds > 0)).filter(|hsts| *hsts != rules.hsts);
    let is_forced = found.is_some_and(|found| found.is_forced(found.main()));
    if hsts.is_some_and(|hsts| hsts.is_some()) && !is_forced {
        compared.later.push(main.clone());
    }
    ChangeSite {
        document_root: site.document_root.as_ref().and_then(root),
        existing: true,
        // With a new site, attaching says it.
        www: site.www.filter(|www| found.is_some_and(|found| found.rules.www != *www)),
        https: site.https.filter(|https| *https != rules.https_policy),
        tls: site.tls.map(TlsFloor::from).filter(|tls| *tls != rules.tls),
        hsts: hsts.filter(|hsts| is_forced || hsts.is_none()),
        content: if found.is_some() { content } else { ContentWish::default() },
    }
}

/// What is to be shown otherwise than before.
fn content(site: &ListedSite, before: &Content) -> Result<ContentWish, crate::site::ContentError> {
    let path = |typed: &Option<String>| typed.as_deref().map(parse_path).transpose();
    let mut wish = ContentWish {
        index: site.index.as_ref().map(|names| parse_names(&names.join(","))).transpose()?,
        listing: site.listing,
        single_page: path(&site.single_page)?.map(Some),
        missing_page: path(&site.missing_page)?.map(Some),
        front: site.front_script,
        no_scripts: match &site.no_scripts {
            Some(folders) => Some(folders.iter().map(|typed| parse_path(typed)).collect::<Result<_, _>>()?),
            None => None,
        },
        htaccess: site.htaccess.clone(),
        body_limit: site.body_limit.map(Some),
        time_limit: site.time_limit.map(Some),
        ..ContentWish::default()
    };
    if let Some(cache) = &site.cache {
        let one =
            |(endings, seconds): (&String, &u32)| Ok(Cached { endings: parse_names(endings)?, seconds: *seconds });
        wish.cache = Some(cache.iter().map(one).collect::<Result<_, crate::site::ContentError>>()?);
    }
    if let Some(serve) = &site.serve {
        wish.parts = serve.iter().map(|typed| parse_part(typed)).collect::<Result<_, _>>()?;
        let gone = before.parts.iter().filter(|part| !wish.parts.iter().any(|(path, _)| *path == part.path));
        let gone: Vec<_> = gone.map(|part| (part.path.clone(), None)).collect();
        wish.parts.extend(gone);
    }
    Ok(if wish.applied_to(before) == *before { ContentWish::default() } else { wish })
}

fn redirects(
    listing: &Listing,
    present: &Present,
    by_name: &BTreeMap<&Host, &Site>,
    compared: &mut Compared,
) -> Result<(), ListingError> {
    let mut matched: BTreeSet<(&Host, usize)> = BTreeSet::new();
    let mut added = Vec::new();
    for listed in &listing.redirects {
        let wanted = wanted(listed).map_err(wrong(format!("redirects, from = \"{}\"", listed.from)))?;
        let site = by_name.get(&wanted.source.host).copied();
        let found = site.and_then(|site| {
            let at = site.rules.redirects.iter().position(|one| is_named(one, &wanted.source))?;
            Some((site, at, &site.rules.redirects[at]))
        });
        if let Some((site, at, _)) = found {
            matched.insert((site.main(), at));
        }
        match found {
            Some((_, _, found)) if is_same(found, &wanted) => {
                compared.redirects.same += 1;
                continue;
            }
            Some(_) => {
                compared.redirects.changed += 1;
                compared.steps.push(Step::RemoveRedirect(wanted.source.clone()));
            }
            None => compared.redirects.added += 1,
        }
        let Redirect { source, target, status, keep_path, with_twin, until } = wanted;
        let typed = listed.to.clone();
        let sources = Sources::One(source);
        added.push(Step::AddRedirect(AddRedirects { sources, target, typed, status, keep_path, with_twin, until }));
    }
    if listing.whole.contains(&Whole::Redirects) {
        let goes_whole =
            |site: &Site| listing.whole.contains(&Whole::Sites) && !listing.sites.contains_key(site.main());
        for site in present.sites.iter().filter(|site| !goes_whole(site)) {
            for (at, redirect) in site.rules.redirects.iter().enumerate() {
                if !matched.contains(&(site.main(), at)) {
                    compared.redirects.gone += 1;
                    compared.steps.push(Step::RemoveRedirect(redirect.source.clone()));
                }
            }
        }
    }
    compared.steps.extend(added);
    Ok(())
}

fn wanted(listed: &ListedRedirect) -> Result<Redirect, String> {
    let text = |error: crate::redirect::RedirectError| error.to_string();
    Ok(Redirect {
        source: Source::parse(&listed.from, listed.prefix || listed.keep_path).map_err(text)?,
        target: Target::parse(&listed.to, listed.keep_path).map_err(text)?,
        status: check_status(listed.status.unwrap_or(302)).map_err(text)?,
        keep_path: listed.keep_path,
        with_twin: listed.with_twin,
        until: listed.until.map(end_of).transpose()?,
    })
}

/// The first moment after a day (UTC).
fn end_of(day: Date) -> Result<Timestamp, String> {
    let next = day.tomorrow().and_then(|next| next.to_zoned(TimeZone::UTC));
    next.map(|midnight| midnight.timestamp()).map_err(|_| format!("{day} is not a day to end on"))
}

fn is_same(found: &Redirect, wanted: &Redirect) -> bool {
    found.source.prefix == wanted.source.prefix
        && found.target.text() == wanted.target.text()
        && (found.status, found.keep_path, found.with_twin) == (wanted.status, wanted.keep_path, wanted.with_twin)
        && found.until == wanted.until
}

impl Compared {
    /// The names that would be attached to each account, to be checked against its plan as a whole.
    pub fn attaching(&self) -> BTreeMap<&AccountName, Vec<AttachRequest>> {
        let mut all: BTreeMap<&AccountName, Vec<AttachRequest>> = BTreeMap::new();
        for step in &self.steps {
            if let Step::Attach(request) = step {
                all.entry(&request.account).or_default().push(request.clone());
            }
        }
        all
    }
}

/// What the twin of a name would be called in a listing: it is not named there.
pub(super) fn is_twin(name: &Host, hostnames: &[Host], www: WwwPolicy) -> bool {
    www != WwwPolicy::None && name.without_www().is_some_and(|bare| hostnames.contains(&bare))
}

/// The hostname of a zone that a listing's records name, once each.
pub fn zones_of(listing: &Listing) -> BTreeSet<&Hostname> {
    listing.records.iter().map(|record| &record.zone).collect()
}

//! Sites of a listing beside those that are there: which are attached, handed over, changed or detached.

use std::collections::BTreeMap;
use std::path::PathBuf;

use super::compare::{Compared, ListingError, Present, Step, wrong};
use super::{ListedSite, ListedZone, Listing, Whole};
use crate::name::Host;
use crate::site::{
    AttachRequest, Cached, ChangeSite, Content, ContentError, ContentWish, ServedFrom, Site, TlsFloor, WwwPolicy,
    ZoneChoice, parse_names, parse_part, parse_path,
};
use crate::zone::{Mail, ZoneDesign};

pub(super) fn sites(
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
fn content(site: &ListedSite, before: &Content) -> Result<ContentWish, ContentError> {
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
        wish.cache = Some(cache.iter().map(one).collect::<Result<_, ContentError>>()?);
    }
    if let Some(serve) = &site.serve {
        wish.parts = serve.iter().map(|typed| parse_part(typed)).collect::<Result<_, _>>()?;
        let gone = before.parts.iter().filter(|part| !wish.parts.iter().any(|(path, _)| *path == part.path));
        let gone: Vec<_> = gone.map(|part| (part.path.clone(), None)).collect();
        wish.parts.extend(gone);
    }
    Ok(if wish.applied_to(before) == *before { ContentWish::default() } else { wish })
}

/// What the twin of a name would be called in a listing: it is not named there.
pub(super) fn is_twin(name: &Host, hostnames: &[Host], www: WwwPolicy) -> bool {
    www != WwwPolicy::None && name.without_www().is_some_and(|bare| hostnames.contains(&bare))
}

//! Redirects of a listing beside those that are there.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;

use super::compare::{Compared, ListingError, Present, Step, wrong};
use super::{ListedRedirect, Listing, Whole};
use crate::name::Host;
use crate::redirect::{AddRedirects, Redirect, Source, Sources, Target, check_status, is_named};
use crate::site::Site;

pub(super) fn redirects(
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

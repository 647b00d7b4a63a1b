//! A listing of what a harbor has: loaded into the same harbor, it changes nothing.
//!
//! Not in it are certificates and keys, passwords of protected paths, and zones as such: those come back with their files.

use std::collections::BTreeMap;

use jiff::tz::TimeZone;

use super::sets::listed_set;
use super::sites::is_twin;
use super::{ListedAccount, ListedPlan, ListedRecord, ListedRedirect, ListedSite, Listing, Present};
use crate::name::Host;
use crate::redirect::Redirect;
use crate::site::Site;

/// Makes the listing; `records` are those that are to be in it.
pub fn listing_of(present: &Present, records: Vec<ListedRecord>) -> Listing {
    let accounts = present.accounts.iter().map(|(name, account)| {
        let listed = ListedAccount {
            email: account.email.clone(),
            home: Some(account.home.clone()),
            existing: false,
            system_user: account.system_user.clone(),
            plan: account.plan.clone(),
            nameserver_set: account.nameserver_set.clone(),
            reseller: account.reseller.clone(),
        };
        (name.clone(), listed)
    });
    Listing {
        whole: vec![],
        plans: present.plans.iter().map(|(name, limits)| (name.clone(), ListedPlan::from(*limits))).collect(),
        accounts: accounts.collect(),
        nameserver_sets: present.sets.iter().map(|(name, set)| (name.clone(), listed_set(set))).collect(),
        sites: present.sites.iter().map(|site| (site.main().clone(), listed_site(site))).collect(),
        redirects: present.sites.iter().flat_map(|site| site.rules.redirects.iter().map(listed_redirect)).collect(),
        records,
    }
}

fn listed_site(site: &Site) -> ListedSite {
    let (rules, content) = (&site.rules, &site.rules.content);
    let names: Vec<Host> =
        site.hostnames[1..].iter().filter(|name| !is_twin(name, &site.hostnames, rules.www)).cloned().collect();
    let not_empty = |list: &Vec<String>| Some(list.clone()).filter(|list| !list.is_empty());
    let parts: Vec<String> = content.parts.iter().map(|part| format!("{}={}", part.path, part.by.typed())).collect();
    let cache: BTreeMap<String, u32> = content.cache.iter().map(|one| (one.endings.join(","), one.seconds)).collect();
    ListedSite {
        account: site.account.clone(),
        names,
        document_root: Some(site.document_root.clone()),
        existing: false,
        www: Some(rules.www),
        zone: None,
        https: Some(rules.https_policy),
        tls: Some(rules.tls.into()),
        hsts: rules.hsts,
        serve: not_empty(&parts),
        index: not_empty(&content.index),
        listing: content.listing.then_some(true),
        single_page: content.single_page.clone(),
        missing_page: content.missing_page.clone(),
        cache: Some(cache).filter(|cache| !cache.is_empty()),
        front_script: content.front.then_some(true),
        no_scripts: not_empty(&content.no_scripts),
        htaccess: Some(content.htaccess.clone()).filter(|groups| !groups.is_empty()),
        body_limit: content.body_limit,
        time_limit: content.time_limit,
    }
}

fn listed_redirect(redirect: &Redirect) -> ListedRedirect {
    // It ends with the midnight after its last day.
    let last = |until: jiff::Timestamp| until.to_zoned(TimeZone::UTC).date().yesterday().ok();
    ListedRedirect {
        from: redirect.source.to_string(),
        to: redirect.target.text().to_string(),
        status: Some(redirect.status),
        prefix: redirect.source.prefix && !redirect.keep_path,
        keep_path: redirect.keep_path,
        with_twin: redirect.with_twin,
        until: redirect.until.and_then(last),
    }
}

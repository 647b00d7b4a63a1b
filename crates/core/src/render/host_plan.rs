//! What each hostname of a site does beside serving content: its redirects in the order of precedence, and the twin
//! that it is sent to. Hostnames that do the same share one block of a server's file.

use crate::name::Host;
use crate::redirect::Redirect;
use crate::site::Site;

/// Hostnames that are served alike.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct HostPlan<'a> {
    pub hostnames: Vec<&'a Host>,
    pub redirects: Vec<&'a Redirect>,
    pub sent_to: Option<Host>,
    /// Whether http is sent to https.
    pub forced: bool,
}

impl<'a> HostPlan<'a> {
    fn of(site: &'a Site, hostname: &'a Host) -> Self {
        let mut redirects: Vec<&Redirect> =
            site.rules.redirects.iter().filter(|redirect| redirect.is_for(hostname)).collect();
        redirects.sort_by_key(|redirect| redirect.precedence());
        Self { hostnames: vec![hostname], redirects, sent_to: site.sent_to(hostname), forced: site.is_forced(hostname) }
    }

    fn does_the_same(&self, other: &Self) -> bool {
        (&self.redirects, &self.sent_to, self.forced) == (&other.redirects, &other.sent_to, other.forced)
    }

    /// The redirect of the whole host, if there is one.
    pub fn whole(&self) -> Option<&'a Redirect> {
        self.redirects.iter().find(|redirect| redirect.source.is_whole_host()).copied()
    }

    /// Those of paths.
    pub fn of_paths(&self) -> impl Iterator<Item = &'a Redirect> {
        self.redirects.iter().filter(|redirect| !redirect.source.is_whole_host()).copied()
    }
}

/// One plan for each hostname.
pub(super) fn each(site: &Site) -> Vec<HostPlan<'_>> {
    site.hostnames.iter().map(|hostname| HostPlan::of(site, hostname)).collect()
}

/// Hostnames that do the same together.
pub(super) fn grouped(site: &Site) -> Vec<HostPlan<'_>> {
    let mut groups: Vec<HostPlan<'_>> = Vec::new();
    for plan in each(site) {
        match groups.iter_mut().find(|group| group.does_the_same(&plan)) {
            Some(group) => group.hostnames.extend(plan.hostnames),
            None => groups.push(plan),
        }
    }
    groups
}

/// How many parts a redirect's path has: the raw path of a request is cut behind as many.
pub(super) fn depth(redirect: &Redirect) -> usize {
    if redirect.source.path == "/" { 0 } else { redirect.source.path.matches('/').count() }
}

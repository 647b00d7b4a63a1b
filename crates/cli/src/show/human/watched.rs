//! How far a change has come to the authoritative servers.

use brightharbor_core::zone::show_seconds;
use brightharbor_io::watch::Watched;

use super::Page;

pub fn watched(page: &mut Page, watched: &Watched) {
    let after = show_seconds(watched.waited.as_secs());
    if watched.everywhere() {
        let count = watched.servers.len();
        return page.hanging("", &format!("All authoritative servers ({count}) have it after {after}."));
    }
    if watched.servers.is_empty() {
        return page.hanging("", "No authoritative server was found: see `brightharbor delegation check`.");
    }
    page.hanging("", &format!("Not on all authoritative servers after {after}:"));
    for server in watched.servers.iter().filter(|server| server.problem.is_some()) {
        let problem = server.problem.as_deref().unwrap_or_default();
        page.hanging("  ", &format!("{} ({}) {problem}", server.name.bare(), server.address.ip()));
    }
}

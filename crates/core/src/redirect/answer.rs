//! What a request meets by the site model: the same that the servers' files say, as a pure function; and the way of a
//! visitor through all redirects of the harbor.
//!
//! The order is fixed: proofs and the fingerprint, then https, then redirects, then `www`, then content.

use url::Url;

use super::rule::percent_decoded;
use super::{Redirect, Target};
use crate::name::Host;
use crate::render::{FINGERPRINT_PATH, PROOF_PATH};
use crate::site::{Answering, Part, Site};

/// What the model says to one request.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Answer {
    Redirect {
        status: u16,
        location: Url,
        why: Why,
    },
    /// What the part of the site at that path shows, or a page that is not there; no part for what the harbor itself
    /// answers: proofs, and the fingerprint.
    Content(Option<Part>),
    /// Not a hostname of this harbor.
    Elsewhere,
}

/// Which setting sends a visitor on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Why {
    Https,
    Www,
    Redirect(String),
    /// A part of files or PHP is a folder, with a slash at its end.
    Folder,
}

impl Why {
    pub fn words(&self) -> String {
        match self {
            Why::Https => "https policy".into(),
            Why::Www => "www policy".into(),
            Why::Redirect(source) => format!("redirect of {source}"),
            Why::Folder => "a folder".into(),
        }
    }
}

/// The ports that are left out of a location.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Ports {
    pub http: u16,
    pub https: u16,
}

/// What the site answers to a request for the URL.
pub fn answer(site: &Site, url: &Url, ports: Ports) -> Answer {
    let Some(host) = url.host_str().and_then(|host| Host::parse(host).ok()) else { return Answer::Elsewhere };
    if !site.hostnames.contains(&host) {
        return Answer::Elsewhere;
    }
    let path = decoded(url.path());
    let demanded = site.demanded_files().any(|(demanded, ..)| demanded == path);
    if path.starts_with(PROOF_PATH) || path == FINGERPRINT_PATH || demanded {
        return Answer::Content(None);
    }
    let secure = url.scheme() == "https";
    let sent = |status: u16, location: Url, why: Why| Answer::Redirect { status, location, why };
    if site.is_forced(&host) && !secure {
        let mut location = url.clone();
        let _ = location.set_scheme("https");
        let _ = location.set_port(port_of("https", ports));
        return sent(301, location, Why::Https);
    }
    if let Some((redirect, rest)) = matching(site, &host, &path) {
        let location = location(redirect, rest, url);
        return match location {
            Some(location) => sent(redirect.status, location, Why::Redirect(redirect.source.to_string())),
            None => Answer::Content(None),
        };
    }
    if let Some(other) = site.sent_to(&host) {
        let mut location = url.clone();
        let _ = location.set_host(Some(other.as_str()));
        return sent(301, location, Why::Www);
    }
    let (part, by) = site.rules.content.part_at(&path);
    if part == path && part != "/" && !matches!(by, Answering::Program(_)) {
        let mut location = url.clone();
        location.set_path(&format!("{path}/"));
        return sent(301, location, Why::Folder);
    }
    Answer::Content(Some(Part { path: part.to_string(), by: by.clone() }))
}

fn port_of(scheme: &str, ports: Ports) -> Option<u16> {
    let (port, usual) = if scheme == "https" { (ports.https, 443) } else { (ports.http, 80) };
    (port != usual).then_some(port)
}

/// The redirect that a server would choose, and what is left of the path behind its own.
fn matching<'s, 'p>(site: &'s Site, host: &Host, path: &'p str) -> Option<(&'s Redirect, &'p str)> {
    let mut fitting: Vec<(&Redirect, &str)> = site
        .rules
        .redirects
        .iter()
        .filter(|redirect| redirect.is_for(host))
        .filter_map(|redirect| Some((redirect, redirect.source.rest(path)?)))
        .collect();
    fitting.sort_by_key(|(redirect, _)| redirect.precedence());
    fitting.into_iter().next()
}

fn location(redirect: &Redirect, rest: &str, asked: &Url) -> Option<Url> {
    let base = match &redirect.target {
        Target::Url(url) => url.parse().ok()?,
        Target::Path(path) => asked.join(path).ok()?,
    };
    if !redirect.keep_path {
        return Some(base);
    }
    let mut text = if rest.is_empty() { base.to_string() } else { base.as_str().trim_end_matches('/').to_string() };
    if !rest.is_empty() {
        // As it was asked, encoding and all: the part of the raw path that stands for the rest.
        let depth = if redirect.source.path == "/" { 0 } else { redirect.source.path.matches('/').count() };
        let raw = asked.path().match_indices('/').nth(depth).map_or("", |(at, _)| &asked.path()[at..]);
        text.push_str(raw);
    }
    if let Some(query) = asked.query() {
        text.push('?');
        text.push_str(query);
    }
    text.parse().ok()
}

fn decoded(path: &str) -> String {
    let bytes = percent_decoded(path);
    bytes.map_or_else(|| path.to_string(), |bytes| String::from_utf8_lossy(&bytes).into_owned())
}

/// One step of a visitor's way.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Step {
    pub url: Url,
    pub status: u16,
    pub why: Why,
}

/// Where the model says that a visitor ends.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum WayEnd {
    /// At a page of this harbor, or outside of it.
    Page(Url),
    Loop(Url),
    TooLong,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Way {
    pub steps: Vec<Step>,
    pub end: WayEnd,
    /// The part of a site that the visitor ends at.
    pub part: Option<Part>,
}

/// More redirects in a row than any browser follows.
const MOST_STEPS: usize = 20;

/// Follows a visitor through the model; `site_of` gives the site of a hostname of this harbor.
pub fn way<E>(start: &Url, ports: Ports, mut site_of: impl FnMut(&Host) -> Result<Option<Site>, E>) -> Result<Way, E> {
    let mut steps: Vec<Step> = Vec::new();
    let mut at = start.clone();
    loop {
        if steps.iter().any(|step| step.url == at) {
            return Ok(Way { steps, end: WayEnd::Loop(at), part: None });
        }
        if steps.len() >= MOST_STEPS {
            return Ok(Way { steps, end: WayEnd::TooLong, part: None });
        }
        let host = at.host_str().and_then(|host| Host::parse(host).ok());
        let site = match host {
            Some(host) => site_of(&host)?,
            None => None,
        };
        match site.map_or(Answer::Elsewhere, |site| answer(&site, &at, ports)) {
            Answer::Redirect { status, mut location, why } => {
                location.set_fragment(None);
                steps.push(Step { url: at, status, why });
                at = location;
            }
            Answer::Content(part) => return Ok(Way { steps, end: WayEnd::Page(at), part }),
            Answer::Elsewhere => return Ok(Way { steps, end: WayEnd::Page(at), part: None }),
        }
    }
}

impl Way {
    /// The way in one line.
    pub fn words(&self) -> String {
        let mut words: Vec<&str> = self.steps.iter().map(|step| step.url.as_str()).collect();
        match &self.end {
            WayEnd::Page(url) | WayEnd::Loop(url) => words.push(url.as_str()),
            WayEnd::TooLong => words.push("..."),
        }
        words.join(" -> ")
    }

    /// What hurts without breaking.
    pub fn risks(&self) -> Vec<String> {
        let mut risks = Vec::new();
        if self.steps.len() > 3 {
            risks.push(format!("{} redirects in a row; each costs a visitor time: {}", self.steps.len(), self.words()));
        }
        let urls = self.steps.iter().map(|step| &step.url).chain(match &self.end {
            WayEnd::Page(url) => Some(url),
            _ => None,
        });
        let schemes: Vec<&str> = urls.map(Url::scheme).collect();
        if schemes.windows(2).any(|pair| pair == ["https", "http"]) {
            risks.push(format!("leads from https to http, where anybody on the way can read along: {}", self.words()));
        }
        risks
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::AccountName;
    use crate::redirect::Source;
    use crate::site::{HttpsState, HttpsStates, SiteKind, SiteRules, WwwPolicy};

    const PORTS: Ports = Ports { http: 80, https: 443 };

    fn redirect(source: &str, prefix: bool, target: &str, keep_path: bool) -> Redirect {
        Redirect {
            source: Source::parse(source, prefix).unwrap(),
            target: Target::parse(target, keep_path).unwrap(),
            status: 302,
            keep_path,
            with_twin: true,
            until: None,
        }
    }

    fn site(https: HttpsState, www: WwwPolicy, redirects: Vec<Redirect>) -> Site {
        let hostnames = ["gullrock.example", "www.gullrock.example"].map(|n| Host::parse(n).unwrap()).to_vec();
        Site {
            account: AccountName::parse("boatyard").unwrap(),
            document_root: "/home/boatyard/www/gullrock.example".into(),
            kind: SiteKind::AddonDomain,
            https: HttpsStates::all(&hostnames, https),
            hostnames,
            certificate: None,
            rules: SiteRules { www, redirects, ..SiteRules::default() },
        }
    }

    fn goes(site: &Site, url: &str) -> String {
        match answer(site, &url.parse().unwrap(), PORTS) {
            Answer::Redirect { status, location, .. } => format!("{status} {location}"),
            Answer::Content(Some(part)) if part.path != "/" => format!("{} of {}", part.by.words(), part.path),
            Answer::Content(_) => "content".into(),
            Answer::Elsewhere => "elsewhere".into(),
        }
    }

    #[test]
    fn https_then_redirects_then_www_then_content() {
        let old = redirect("gullrock.example/old", true, "https://quay.example/new/", true);
        let here = redirect("gullrock.example/old/here", false, "/now", false);
        let site = site(HttpsState::Forced, WwwPolicy::ToBare, vec![old, here]);
        assert_eq!(goes(&site, "http://www.gullrock.example/old/x?a=b"), "301 https://www.gullrock.example/old/x?a=b");
        assert_eq!(goes(&site, "https://gullrock.example/old/x%20y?a=b"), "302 https://quay.example/new/x%20y?a=b");
        assert_eq!(goes(&site, "https://gullrock.example/old?a"), "302 https://quay.example/new/?a");
        assert_eq!(goes(&site, "https://gullrock.example/old/here?a"), "302 https://gullrock.example/now");
        assert_eq!(goes(&site, "https://www.gullrock.example/x?y"), "301 https://gullrock.example/x?y");
        assert_eq!(goes(&site, "https://gullrock.example/older"), "content");
        assert_eq!(goes(&site, "http://gullrock.example/.well-known/acme-challenge/t"), "content");
        assert_eq!(goes(&site, "http://crumbandtide.example/"), "elsewhere");
        let mut partly = site.clone();
        partly.https.set(&site.hostnames[1], HttpsState::None);
        assert_eq!(goes(&partly, "http://gullrock.example/x"), "301 https://gullrock.example/x");
        assert_eq!(goes(&partly, "http://www.gullrock.example/x"), "301 http://gullrock.example/x");
    }

    #[test]
    fn parts_come_behind_redirects_and_a_folder_has_its_slash() {
        let old = redirect("gullrock.example/api/old", true, "https://quay.example/", true);
        let mut site = site(HttpsState::None, WwwPolicy::Also, vec![old]);
        site.rules.content.parts = ["/api=http://127.0.0.1:3000", "/blog=php:8.2", "/api/docs=files"]
            .map(|typed| crate::site::parse_part(typed).unwrap())
            .map(|(path, by)| Part { path, by: by.unwrap() })
            .to_vec();
        let at = |path: &str| goes(&site, &format!("http://gullrock.example{path}"));
        assert_eq!(at("/api"), "the program at 127.0.0.1:3000 of /api");
        assert_eq!(at("/api/x%2Fy"), "the program at 127.0.0.1:3000 of /api");
        assert_eq!(at("/api/old/x"), "302 https://quay.example/x");
        assert_eq!(at("/blog?a=b"), "301 http://gullrock.example/blog/?a=b");
        assert_eq!((at("/blog/x").as_str(), at("/blogs").as_str()), ("PHP 8.2 of /blog", "content"));
        assert_eq!(at("/api/docs/"), "files of /api/docs");
        assert_eq!(at("/.well-known/acme-challenge/t"), "content");
    }

    #[test]
    fn a_loop_is_found_however_it_goes_round() {
        let around = |redirects| site(HttpsState::Forced, WwwPolicy::ToWww, redirects);
        let way_of = |site: &Site, url: &str| {
            way::<()>(&url.parse().unwrap(), PORTS, |host| Ok(site.hostnames.contains(host).then(|| site.clone())))
                .unwrap()
        };
        let to_bare =
            Redirect { with_twin: false, ..redirect("www.gullrock.example", true, "https://gullrock.example/", true) };
        let found = way_of(&around(vec![to_bare]), "http://gullrock.example/");
        assert!(matches!(found.end, WayEnd::Loop(_)), "{}", found.words());
        let away = around(vec![redirect("gullrock.example/a", false, "http://gullrock.example/b", false)]);
        let found = way_of(&away, "http://gullrock.example/a");
        assert_eq!(found.steps.len(), 4, "{}", found.words());
        assert_eq!(found.risks().len(), 2, "{:?}", found.risks());
        assert_eq!(found.end, WayEnd::Page("https://www.gullrock.example/b".parse().unwrap()));
    }
}

//! The decision to add a redirect to a site: refused if a visitor would go round in a loop, told if it is fragile.

use url::Url;

use super::{Ports, Redirect, Way, WayEnd, way};
use crate::name::Host;
use crate::site::Site;

#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum AddRefused {
    /// Asked for the twin as well, where none is attached.
    #[error("{0} has no twin that is attached")]
    NoTwin(Host),
    #[error("{source_text} is redirected already, to {target}")]
    Present { source_text: String, target: String },
    #[error("visitors would go round in a loop: {0}")]
    Loop(String),
    #[error("visitors would be sent on without end: {0}")]
    Endless(String),
}

/// The site with the redirect, and what is fragile about it. `site_of` gives the other sites of the harbor.
pub fn add<E>(
    site: &Site,
    redirect: &Redirect,
    ports: Ports,
    mut site_of: impl FnMut(&Host) -> Result<Option<Site>, E>,
) -> Result<Result<(Site, Vec<String>), AddRefused>, E> {
    let hosts: Vec<&Host> = site.hostnames.iter().filter(|hostname| redirect.is_for(hostname)).collect();
    let source = redirect.source.to_string();
    if redirect.with_twin && !redirect.twin().is_some_and(|twin| site.hostnames.contains(&twin)) {
        return Ok(Err(AddRefused::NoTwin(redirect.source.host.clone())));
    }
    let same = |other: &&Redirect| {
        other.source.path == redirect.source.path
            && other.source.is_whole_host() == redirect.source.is_whole_host()
            && hosts.iter().any(|host| other.is_for(host))
    };
    if let Some(present) = site.rules.redirects.iter().find(same) {
        let target = present.target.text().to_string();
        return Ok(Err(AddRefused::Present { source_text: source, target }));
    }
    let mut after = site.clone();
    after.rules.redirects.push(redirect.clone());
    let mut risks = Vec::new();
    for start in starts(&after, redirect, &hosts, ports) {
        let found =
            way(
                &start,
                ports,
                |host| {
                    if after.hostnames.contains(host) { Ok(Some(after.clone())) } else { site_of(host) }
                },
            )?;
        match &found.end {
            WayEnd::Loop(_) => return Ok(Err(AddRefused::Loop(found.words()))),
            WayEnd::TooLong => return Ok(Err(AddRefused::Endless(first_steps(&found)))),
            WayEnd::Page(_) => risks.extend(found.risks().into_iter().take(1)),
        }
    }
    // The http and https starts of one path mostly have the same to say.
    risks.dedup();
    risks.truncate(2);
    Ok(Ok((after, risks)))
}

fn first_steps(way: &Way) -> String {
    let steps: Vec<&str> = way.steps.iter().take(5).map(|step| step.url.as_str()).collect();
    format!("{} -> ...", steps.join(" -> "))
}

/// A visitor at each hostname, over http and https, at the path itself and below it.
fn starts(site: &Site, redirect: &Redirect, hosts: &[&Host], ports: Ports) -> Vec<Url> {
    let mut starts = Vec::new();
    let schemes = if site.certificate.is_some() { &["http", "https"][..] } else { &["http"] };
    for host in hosts {
        for scheme in schemes {
            let (port, usual) = if *scheme == "https" { (ports.https, 443) } else { (ports.http, 80) };
            let port = if port == usual { String::new() } else { format!(":{port}") };
            let Ok(mut url) = format!("{scheme}://{host}{port}/").parse::<Url>() else { continue };
            url.set_path(&redirect.source.path);
            starts.push(url.clone());
            if redirect.source.prefix {
                url.set_path(&format!("{}/page", redirect.source.path.trim_end_matches('/')));
                starts.push(url);
            }
        }
    }
    starts
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::AccountName;
    use crate::certificate::CertificateFiles;
    use crate::redirect::{Source, Target};
    use crate::site::{HttpsState, HttpsStates, SiteKind, SiteRules, WwwPolicy};

    fn site(domain: &str) -> Site {
        let main = Host::parse(domain).unwrap();
        Site {
            account: AccountName::parse("boatyard").unwrap(),
            https: HttpsStates::all([&main, &main.with_www().unwrap()], HttpsState::Forced),
            hostnames: vec![main.clone(), main.with_www().unwrap()],
            document_root: "/home/boatyard/www".into(),
            kind: SiteKind::AddonDomain,
            certificate: Some(CertificateFiles { folder: "/c".into() }),
            rules: SiteRules { www: WwwPolicy::ToBare, ..SiteRules::default() },
        }
    }

    fn redirect(source: &str, target: &str, keep_path: bool) -> Redirect {
        Redirect {
            source: Source::parse(source, false).unwrap(),
            target: Target::parse(target, keep_path).unwrap(),
            status: 302,
            keep_path,
            with_twin: true,
            until: None,
        }
    }

    fn added(site: &Site, redirect: &Redirect, others: &[Site]) -> Result<(Site, Vec<String>), AddRefused> {
        let find = |host: &Host| Ok::<_, ()>(others.iter().find(|site| site.hostnames.contains(host)).cloned());
        add(site, redirect, Ports { http: 80, https: 443 }, find).unwrap()
    }

    #[test]
    fn loops_over_one_or_several_sites_are_refused_with_the_way_written_out() {
        let boat = site("gullrock.example");
        let itself = added(&boat, &redirect("gullrock.example/a", "https://gullrock.example/a", false), &[]);
        assert!(matches!(itself, Err(AddRefused::Loop(way)) if way.contains("/a -> https://gullrock.example/a")));
        let home = added(&boat, &redirect("gullrock.example", "https://www.gullrock.example/", true), &[]);
        assert!(matches!(home, Err(AddRefused::Loop(_))), "{home:?}");
        let mut choir = site("lanternchoir.example");
        choir.rules.redirects.push(redirect("lanternchoir.example", "https://gullrock.example/", true));
        let round = added(&boat, &redirect("gullrock.example", "https://lanternchoir.example/", true), &[choir]);
        assert!(matches!(round, Err(AddRefused::Loop(way)) if way.contains("lanternchoir")));
        let growing = Redirect {
            source: Source::parse("gullrock.example/a", true).unwrap(),
            ..redirect("gullrock.example/a", "/a/b", true)
        };
        assert!(matches!(added(&boat, &growing, &[]), Err(AddRefused::Endless(_))));
    }

    #[test]
    fn a_second_redirect_of_the_same_path_is_refused_and_a_fragile_one_is_told() {
        let boat = site("gullrock.example");
        let plain = redirect("gullrock.example/a", "https://quay.example/", false);
        let (with, risks) = added(&boat, &plain, &[]).unwrap();
        assert_eq!((with.rules.redirects.len(), risks.len()), (1, 0));
        assert!(matches!(added(&with, &plain, &[]), Err(AddRefused::Present { .. })));
        let back = redirect("gullrock.example/b", "http://quay.example/", false);
        assert!(added(&with, &back, &[]).unwrap().1[0].contains("from https to http"));
        let mut alone = boat.clone();
        alone.hostnames.truncate(1);
        assert!(matches!(added(&alone, &plain, &[]), Err(AddRefused::NoTwin(_))));
    }
}

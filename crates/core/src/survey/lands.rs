//! The sixth link: where a visitor who types the name ends up.

use super::{Link, LinkName, LinkState, Seen, SilentProgram, Turn};
use crate::redirect::{Landing, LandingEnd, Shows};

pub(super) fn lands(seen: &Seen<'_>, answers: &Link) -> Link {
    let turn = match (seen.harbored, answers.turn) {
        (Some(_), None) => Some(Turn::Administrator),
        (_, turn) => turn,
    };
    let link = |state, code: &'static str, because: String| {
        let link = Link::new(LinkName::Lands, state, code, because);
        if link.state == LinkState::Broken { turn.into_iter().fold(link, Link::turn) } else { link }
    };
    let Some(landing) = seen.landing else {
        return link(LinkState::Unchecked, "no-answer", "nothing answers for the name yet".into());
    };
    let mut way = way(landing);
    let own_page = seen.harbored.is_some() && answers.state == LinkState::Holds;
    let speaks_for_itself = [Shows::Content, Shows::NoProgram, Shows::LateProgram];
    if let Some(shows) = landing.shows.filter(|shows| own_page && !speaks_for_itself.contains(shows)) {
        way.push_str(&format!(", which shows {}", shows.words()));
    }
    if let (LandingEnd::Page { status, .. }, Some(silent)) = (&landing.end, silent(seen)) {
        return link(LinkState::Broken, "program-silent", format!("{way} ({status}): {}", silent_words(silent)));
    }
    if let (LandingEnd::Page { status: status @ (401 | 403), .. }, Some(true)) =
        (&landing.end, seen.harbored.map(|harbored| harbored.is_guarded))
    {
        return link(
            LinkState::Holds,
            "guarded",
            format!("{way} ({status}): the page is for some alone, as it is set"),
        );
    }
    match &landing.end {
        LandingEnd::Page { url, status } if (200..300).contains(status) => {
            let ours = seen.harbored.is_some();
            let awaited = seen.hostname.address().is_none();
            let no_certificate =
                awaited && seen.harbored.is_some_and(|harbored| harbored.covering(seen.hostname).is_none());
            match (url.starts_with("https:"), ours, no_certificate) {
                _ if answers.state == LinkState::Broken => {
                    link(LinkState::Broken, "another-site-answers", format!("{way}, which is not this site's page"))
                }
                _ if landing.shows == Some(Shows::ScriptText) => link(LinkState::Broken, "script-text", way),
                (true, ..) if own_page && landing.shows == Some(Shows::SetupForm) => {
                    let words = format!("{way}: whoever fills it in first owns the site");
                    link(LinkState::Risk, "not-set-up", words)
                }
                (true, ..) => link(LinkState::Holds, "lands", way),
                (false, true, true) => link(
                    LinkState::Waiting(None),
                    "https-to-come",
                    format!("{way}; it goes to https once there is a certificate"),
                )
                .turn(Turn::Tend),
                (false, ..) => link(LinkState::Risk, "without-https", format!("{way}, without https")),
            }
        }
        LandingEnd::Page { status, .. } => link(LinkState::Broken, "bad-status", format!("{way}, which is {status}")),
        LandingEnd::Loop { url } => {
            link(LinkState::Broken, "redirect-loop", format!("redirects go round in a loop at {url}: {way}"))
        }
        LandingEnd::TooLong => {
            link(LinkState::Broken, "too-many-redirects", "more redirects than a browser follows".into())
        }
        LandingEnd::Failed { url, reason } => link(LinkState::Broken, "page-not-reached", format!("{url} {reason}")),
        LandingEnd::NoTarget { url, location } => link(
            LinkState::Broken,
            "redirect-without-url",
            format!("{url} redirects to `{location}`, which is not an address"),
        ),
    }
}

fn silent_words(SilentProgram { what, at, refused }: &SilentProgram) -> String {
    let place = if what.contains(at.as_str()) { String::new() } else { format!(" at {at}") };
    match refused {
        Some(why) => format!("{what} does not take connections{place} ({why}): start it"),
        None => format!("{what} takes connections{place}, but does not answer in time: its log may say why"),
    }
}

fn silent<'a>(seen: &'a Seen<'_>) -> Option<&'a SilentProgram> {
    seen.harbored?.silent.as_ref()
}

fn way(landing: &Landing) -> String {
    let last = match &landing.end {
        LandingEnd::Page { url, .. } | LandingEnd::Loop { url } => url.as_str(),
        _ => "",
    };
    let mut way: Vec<&str> = landing.hops.iter().map(|hop| hop.url.as_str()).collect();
    way.push(last);
    way.join(" -> ")
}

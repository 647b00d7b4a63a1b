//! What decisions about redirects tell.

use brightharbor_core::name::Host;
use brightharbor_core::redirect::{Redirect, RedirectRemark, Sides};

use super::Told;

pub(super) fn told(remark: &RedirectRemark) -> Told {
    use RedirectRemark as Is;
    match remark {
        Is::Added(redirect) => {
            let lasting = match redirect.status {
                301 | 308 => "permanent: browsers remember it even after you remove it",
                _ => "temporary: browsers ask again each time",
            };
            let kept = if redirect.keep_path { " with the rest of the path" } else { "" };
            let (source, target) = (source_words(redirect), redirect.target.text());
            let what = format!("redirect of {source} to {target}{kept} ({}, {lasting})", redirect.status);
            Told::act("redirect-added", "Added", "add", what)
                .with("source", redirect.source.to_string())
                .with("target", target.to_string())
                .with("status", redirect.status)
                .with("keep_path", redirect.keep_path)
                .with("until", redirect.until.map(|until| until.to_string()))
        }
        Is::Risk { source, risk } => Told::fact("redirect-risk", format!("risk: {risk}"))
            .with("source", source.to_string())
            .with("risk", risk.as_str()),
        Is::Removed { source, was_permanent } => {
            let more = match was_permanent {
                true => "; it was permanent, so browsers that visited may still follow it until they forget it",
                false => "",
            };
            Told::act("redirect-removed", "Removed", "remove", format!("redirect of {source}{more}"))
                .with("source", source.to_string())
                .with("was_permanent", *was_permanent)
        }
        Is::Ended { source } => Told::act("redirect-ended", "Ended", "end", format!("redirect of {source}"))
            .with("source", source.to_string()),
    }
}

/// The source with what it is for, as people read it.
pub fn source_words(redirect: &Redirect) -> String {
    let below = if redirect.source.prefix && redirect.source.path != "/" { " and below" } else { "" };
    let host: &Host = &redirect.source.host;
    match redirect.sides {
        Sides::Both => format!("{}{below}", redirect.source),
        Sides::WithWww => format!("www.{}{below}", redirect.source),
        Sides::WithoutWww => format!("{}{below} (not www.{host})", redirect.source),
    }
}

//! What decisions about redirects tell.

use brightharbor_core::redirect::{Redirect, RedirectRemark};

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
            let whole = if redirect.source.is_whole_host() { "every page of " } else { "" };
            let what = format!("redirect of {whole}{source} to {target}{kept} ({}, {lasting})", redirect.status);
            Told::act("redirect-added", "Added", "add", what)
                .with("source", redirect.source.to_string())
                .with("target", target.to_string())
                .with("status", redirect.status)
                .with("keep_path", redirect.keep_path)
                .with("with_twin", redirect.with_twin)
                .with("until", redirect.until.map(|until| until.to_string()))
        }
        Is::TargetWritten { typed, target } => {
            let words = format!("note: the target is written {}, not as it was typed", target.text());
            Told::fact("target-written", words).with("typed", typed.as_str()).with("target", target.text())
        }
        Is::Stays(redirect) => {
            let words = format!("{} still redirects to {}", source_words(redirect), redirect.target.text());
            Told::fact("redirect-stays", words)
                .with("source", redirect.source.to_string())
                .with("target", redirect.target.text())
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
    let source = &redirect.source;
    let below = if source.prefix && !source.is_whole_host() { " and below" } else { "" };
    let twin = redirect.twin().filter(|_| redirect.with_twin).map(|twin| format!(", and {twin}")).unwrap_or_default();
    format!("{source}{below}{twin}")
}

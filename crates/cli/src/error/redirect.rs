//! Refusals about redirects.

use brightharbor_core::redirect::{AddRefused, RedirectRefusal};

use super::Error;

impl From<RedirectRefusal> for Error {
    fn from(refusal: RedirectRefusal) -> Self {
        use RedirectRefusal as Why;
        match refusal {
            Why::NotLoaded(host) | Why::NotAttached(host) => super::site::not_attached(&host),
            Why::NoSites(account) => Self::refused("no-sites", format!("account {account} has no sites"))
                .advice("see `brightharbor site list`")
                .with("account", account.as_str()),
            Why::NotThere(source) => Self::refused("no-redirect", format!("{source} has no redirect"))
                .advice("see `brightharbor redirect list`")
                .with("source", source.to_string()),
            Why::Limit(reached) => reached.into(),
            Why::Add(refused) => refused.into(),
        }
    }
}

impl From<AddRefused> for Error {
    fn from(refused: AddRefused) -> Self {
        match refused {
            AddRefused::Loop(way) => {
                Self::refused("redirect-loop", format!("visitors would go round in a loop: {way}"))
                    .advice("choose another target, or remove one of the others first")
                    .with("way", way)
            }
            AddRefused::Endless(way) => {
                Self::refused("redirect-endless", format!("visitors would be redirected without end: {way}"))
                    .advice("omit --keep-path, or choose a target outside the path")
                    .with("way", way)
            }
            AddRefused::Present { source_text, target } => {
                Self::refused("redirect-present", format!("{source_text} already redirects to {target}"))
                    .advice(format!("remove it first: brightharbor redirect remove {source_text}"))
                    .with("source", source_text)
                    .with("target", target)
            }
            AddRefused::NoHostname(source) => {
                Self::refused("no-hostname", format!("{source}: no hostname of the site matches"))
                    .advice("see the hostnames: brightharbor site list")
                    .with("source", source)
            }
        }
    }
}

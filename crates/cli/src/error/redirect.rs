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
            Why::Past(day) => Self::refused("until-past", format!("{day} is over: it would end at once"))
                .advice("give a day that is not over, or leave --until out")
                .with("until", day.to_string()),
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
            AddRefused::NoTwin(host) => Self::refused("no-twin", format!("the twin of {host} is not attached"))
                .advice(format!("leave --with-twin out, or see what is attached: brightharbor site show {host}"))
                .with("hostname", host.as_str()),
        }
    }
}

//! `redirect try`: what the model says to a visitor and what the live server answers, hop by hop.

use std::collections::HashMap;
use std::net::IpAddr;
use std::path::PathBuf;

use brightharbor_core::name::Host;
use brightharbor_core::redirect::{Landing, LandingEnd, Way, WayEnd, way};
use brightharbor_core::site::Answering;
use brightharbor_io::harbor::Harbor;
use brightharbor_io::probe::land;
use brightharbor_io::store::StoreError;
use brightharbor_io::survey::resolvers;
use brightharbor_io::trust;
use clap::Args;
use serde_json::{Value, json};
use url::Url;

use super::ports;
use crate::commands::Report;
use crate::error::{Error, Exit};
use crate::run::Context;
use crate::show::Shown;
use crate::show::human::Page;
use crate::show::json::PartDocument;

/// Follow a URL through the model and on the live server, and say whether both agree.
#[derive(Debug, Args)]
pub struct Try {
    /// The URL, as a visitor types it.
    url: String,
}

pub fn run(args: &Try, context: &Context) -> Report {
    let typed = args.url.trim();
    let with_scheme = if typed.contains("://") { typed.to_string() } else { format!("http://{typed}") };
    let start: Url = with_scheme
        .parse()
        .ok()
        .filter(|url: &Url| matches!(url.scheme(), "http" | "https") && url.has_host())
        .ok_or_else(|| Error::wrong_use(format!("`{typed}` is no address")).advice("give it as https://HOST/PATH"))?;
    let harbor = context.open()?;
    let start = with_port(start, &harbor);
    let mut htaccess = None;
    let model = way(&start, ports(&harbor), |host| {
        let site = harbor.store.site_of(host)?;
        let with_own = site.as_ref().filter(|site| !site.rules.content.htaccess.is_empty());
        htaccess = htaccess.take().or(with_own.map(|site| site.document_root.clone()));
        Ok::<_, StoreError>(site)
    })?;
    context.progress.doing("asking the live server");
    let live = context.block_on(follow(&harbor, &start, &model))??;
    Ok(Box::new(Tried { model, live, htaccess }))
}

/// In a closed network the servers listen at other ports than a typed address says.
fn with_port(mut url: Url, harbor: &Harbor) -> Url {
    let ports = ports(harbor);
    let usual = if url.scheme() == "https" { 443 } else { 80 };
    let port = if url.scheme() == "https" { ports.https } else { ports.http };
    if url.port().is_none() && port != usual {
        let _ = url.set_port(Some(port));
    }
    url
}

/// The hosts of this harbor are asked at its own addresses, wherever the world leads by now.
async fn follow(harbor: &Harbor, start: &Url, model: &Way) -> Result<Landing, Error> {
    let settings = &harbor.settings;
    let here: Vec<IpAddr> = settings.served_at().to_vec();
    let mut known: HashMap<String, Vec<IpAddr>> = HashMap::new();
    let end = match &model.end {
        WayEnd::Page(url) | WayEnd::Loop(url) => Some(url),
        WayEnd::TooLong => None,
    };
    for url in model.steps.iter().map(|step| &step.url).chain(end) {
        let host = url.host_str().unwrap_or_default();
        if let Ok(name) = Host::parse(host)
            && harbor.store.site_of(&name)?.is_some()
        {
            known.insert(host.to_string(), here.clone());
        }
    }
    let client = trust::client(trust::roots(&settings.internet.trust_roots)?);
    let ports = (settings.internet.http_port(), settings.internet.https_port());
    Ok(land(start, known, &resolvers(settings), ports, &client).await)
}

struct Tried {
    model: Way,
    live: Landing,
    /// The document root of a site on the way whose own files may say otherwise than the model.
    htaccess: Option<PathBuf>,
}

impl Tried {
    fn model_hops(&self) -> Vec<(String, u16)> {
        self.model.steps.iter().map(|step| (step.url.to_string(), step.status)).collect()
    }

    fn live_hops(&self) -> Vec<(String, u16)> {
        self.live.hops.iter().map(|hop| (hop.url.clone(), hop.status)).collect()
    }

    /// As far as the model goes: what a server elsewhere does with a visitor is its own affair.
    fn agree(&self) -> bool {
        let (model, live) = (self.model_hops(), self.live_hops());
        let same = live.len() >= model.len() && live[..model.len()] == model[..];
        let end = match &self.model.end {
            WayEnd::Page(url) => live.get(model.len()).is_none_or(|(hop, _)| hop == url.as_str()),
            WayEnd::Loop(_) | WayEnd::TooLong => matches!(self.live.end, LandingEnd::Loop { .. } | LandingEnd::TooLong),
        };
        same && end
    }

    /// Where a visitor ends up, as one line: what they care about.
    fn verdict(&self) -> String {
        match &self.live.end {
            LandingEnd::Page { url, status } if (200..300).contains(status) => format!("Visitors end at a page: {url}"),
            LandingEnd::Page { url, status } => format!("Visitors end at {url}, which answers {status}"),
            LandingEnd::Loop { url } => format!("Visitors go round in a loop at {url}"),
            LandingEnd::TooLong => "Visitors meet more redirects than a browser follows".into(),
            LandingEnd::Failed { url, reason } => format!("Visitors are stranded: {url} {reason}"),
            LandingEnd::NoTarget { url, location } => {
                format!("Visitors are stranded: {url} redirects to `{location}`, which is not an address")
            }
        }
    }

    fn end_document(&self) -> Value {
        let (is, url) = match &self.live.end {
            LandingEnd::Page { url, status } => {
                return json!({ "is": "answer", "url": url, "status": status, "reason": null });
            }
            LandingEnd::Failed { url, reason } => {
                return json!({ "is": "unreachable", "url": url, "status": null, "reason": reason });
            }
            LandingEnd::Loop { url } => ("loop", Some(url)),
            LandingEnd::TooLong => ("endless", None),
            LandingEnd::NoTarget { url, .. } => ("no-target", Some(url)),
        };
        json!({ "is": is, "url": url, "status": null, "reason": null })
    }

    fn live_end(&self) -> String {
        match &self.live.end {
            LandingEnd::Page { url, status } => format!("{url} answers {status}"),
            LandingEnd::Loop { url } => format!("round in a loop at {url}"),
            LandingEnd::TooLong => "more redirects than a browser follows".into(),
            LandingEnd::Failed { url, reason } => format!("{url} {reason}"),
            LandingEnd::NoTarget { url, location } => {
                format!("{url} redirects to `{location}`, which is not an address")
            }
        }
    }

    fn model_end(&self) -> String {
        let otherwise =
            self.htaccess.as_ref().map(|root| format!(", unless .htaccess in {} says otherwise", root.display()));
        let otherwise = otherwise.unwrap_or_default();
        match &self.model.end {
            WayEnd::Page(url) => match &self.model.part {
                Some(part) if part.by != Answering::Files => {
                    format!("{url}, answered by {}{otherwise}", part.by.words())
                }
                _ => format!("a page at {url}{otherwise}"),
            },
            WayEnd::Loop(url) => format!("round in a loop at {url}"),
            WayEnd::TooLong => "more redirects than a browser follows".into(),
        }
    }
}

impl Shown for Tried {
    fn human(&self, page: &mut Page) {
        page.heading(&self.verdict());
        page.line(if self.agree() {
            "The model and the live server agree."
        } else {
            "The live server does something else than the model."
        });
        page.line("model");
        for step in &self.model.steps {
            page.hanging("  ", &format!("{} {} ({})", step.status, step.url, step.why.words()));
        }
        page.hanging("  ", &self.model_end());
        page.line("live");
        for hop in &self.live.hops {
            page.hanging("  ", &format!("{} {}", hop.status, hop.url));
        }
        page.hanging("  ", &self.live_end());
        if !self.agree() {
            page.hanging("next: ", "see that the server has been reloaded, and that no other file serves this name");
        }
    }

    fn json(&self) -> Value {
        let hops = |hops: Vec<(String, u16)>| {
            hops.into_iter().map(|(url, status)| json!({ "url": url, "status": status })).collect::<Vec<_>>()
        };
        json!({
            "command": "redirect try",
            "ends": self.end_document(),
            "agree": self.agree(),
            "model": hops(self.model_hops()),
            "model_end": self.model_end(),
            "model_part": self.model.part.as_ref().map(PartDocument::from),
            "live": hops(self.live_hops()),
            "live_end": self.live_end(),
        })
    }

    fn exit(&self) -> Exit {
        if self.agree() { Exit::Done } else { Exit::Fault }
    }
}

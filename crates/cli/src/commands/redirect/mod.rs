//! `redirect`: where a name or path of a site leads instead of its own page.

pub mod add;
pub mod list;
pub mod remove;
pub mod show;
pub mod try_url;

use brightharbor_core::name::Hostname;
use brightharbor_core::redirect::{Ports, Redirect, Sides, Source};
use brightharbor_core::site::Site;
use brightharbor_io::harbor::Harbor;
use clap::Subcommand;

use crate::error::Error;

#[derive(Debug, Subcommand)]
pub enum RedirectCommand {
    Add(add::Add),
    List(list::List),
    Remove(remove::Remove),
    Show(show::Show),
    Try(try_url::Try),
}

/// The site that a redirect's host belongs to.
fn site_of_source(harbor: &Harbor, source: &Source) -> Result<Site, Error> {
    let twin = source.host.with_www();
    for host in std::iter::once(&source.host).chain(twin.as_ref()) {
        if let Some(site) = harbor.store.site_of(host)? {
            return Ok(site);
        }
    }
    Err(Error::refused("not-attached", format!("{} is not attached", source.host)).advice(format!(
        "see `brightharbor site list`, or attach it: brightharbor attach {} --account ACCOUNT",
        source.host
    )))
}

/// The redirects of a site that a source as typed names: by host and path, whichever side and depth.
fn named<'s>(site: &'s Site, source: &Source) -> Vec<&'s Redirect> {
    let same = |redirect: &&Redirect| redirect.source.host == source.host && redirect.source.path == source.path;
    site.rules.redirects.iter().filter(same).collect()
}

fn ports(harbor: &Harbor) -> Ports {
    let internet = &harbor.settings.internet;
    Ports { http: internet.http_port(), https: internet.https_port() }
}

/// The source with what it is for, as people read it.
fn source_words(redirect: &Redirect) -> String {
    let below = if redirect.source.prefix && redirect.source.path != "/" { " and below" } else { "" };
    let host: &Hostname = &redirect.source.host;
    match redirect.sides {
        Sides::Both => format!("{}{below}", redirect.source),
        Sides::WithWww => format!("www.{}{below}", redirect.source),
        Sides::WithoutWww => format!("{}{below} (not www.{host})", redirect.source),
    }
}

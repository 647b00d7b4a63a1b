//! `redirect`: where a name or path of a site leads instead of its own page.

pub mod add;
pub mod list;
pub mod remove;
pub mod show;
pub mod try_url;

use brightharbor_core::redirect::{Ports, Redirect, Source, is_named};
use brightharbor_core::site::{Site, SiteRefusal};
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

/// The redirects of a site that a source as typed names: by host and path, whichever side and depth.
fn named<'s>(site: &'s Site, source: &Source) -> Vec<&'s Redirect> {
    site.rules.redirects.iter().filter(|redirect| is_named(redirect, source)).collect()
}

/// The site that a redirect's host belongs to.
fn site_of_source(harbor: &Harbor, source: &Source) -> Result<Site, Error> {
    let twin = source.host.with_www();
    for host in std::iter::once(&source.host).chain(twin.as_ref()) {
        if let Some(site) = harbor.store.site_of(host)? {
            return Ok(site);
        }
    }
    Err(SiteRefusal::NotAttached(source.host.clone()).into())
}

fn ports(harbor: &Harbor) -> Ports {
    let internet = &harbor.settings.internet;
    Ports { http: internet.http_port(), https: internet.https_port() }
}

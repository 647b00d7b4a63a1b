//! `redirect show`: one redirect, and the very rule that the web server has for it.

use brightharbor_core::redirect::{Redirect, Source};
use brightharbor_core::render::redirect_rule;
use clap::Args;
use serde_json::{Value, json};

use super::{named, site_of_source};
use crate::commands::Report;
use crate::error::{Error, Exit};
use crate::run::Context;
use crate::show::Shown;
use crate::show::human::Page;
use crate::show::words::source_words;

/// Show a redirect with the web server's rule for it.
#[derive(Debug, Args)]
pub struct Show {
    /// HOSTNAME or HOSTNAME/PATH, as in `redirect list`.
    source: String,
}

pub fn run(args: &Show, context: &Context) -> Report {
    let source = Source::parse(&args.source, false).map_err(Error::wrong_use)?;
    let harbor = context.open()?;
    let site = site_of_source(&harbor, &source)?;
    let redirects: Vec<(Redirect, Option<String>)> = named(&site, &source)
        .into_iter()
        .map(|redirect| (redirect.clone(), redirect_rule(redirect, harbor.settings.web.server)))
        .collect();
    if redirects.is_empty() {
        return Err(Error::refused("no-redirect", format!("{source} is not redirected"))
            .advice("see `brightharbor redirect list`"));
    }
    let file = harbor.layout.site_file(harbor.settings.web.server, site.main()).display().to_string();
    Ok(Box::new(ShownRedirects { redirects, file }))
}

struct ShownRedirects {
    redirects: Vec<(Redirect, Option<String>)>,
    file: String,
}

impl Shown for ShownRedirects {
    fn human(&self, page: &mut Page) {
        for (redirect, rule) in &self.redirects {
            let rest = if redirect.keep_path { ", with the rest of the path and the query" } else { "" };
            page.heading(&format!("{} -> {}{rest}", source_words(redirect), redirect.target.text()));
            page.line(&format!("  status  {}", redirect.status));
            if let Some(day) = redirect.last_day() {
                page.line(&format!("  until   {day}"));
            }
            if let Some(rule) = rule {
                page.line(&format!("  in      {}", self.file));
                rule.lines().for_each(|line| page.line(line));
            }
        }
    }

    fn json(&self) -> Value {
        let one = |(redirect, rule): &(Redirect, Option<String>)| {
            json!({
                "source": redirect.source.to_string(),
                "target": redirect.target.text(),
                "status": redirect.status,
                "keep_path": redirect.keep_path,
                "until": redirect.last_day().map(|day| day.to_string()),
                "rule": rule,
            })
        };
        json!({
            "command": "redirect show",
            "file": self.file,
            "redirects": self.redirects.iter().map(one).collect::<Vec<_>>(),
        })
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}

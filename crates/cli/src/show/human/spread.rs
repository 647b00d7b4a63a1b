//! How far a change has spread: each resolver with what it has, and until when.

use brightharbor_core::survey::{Has, Spread};
use brightharbor_io::clock;

use super::Page;
use super::lists::table;
use super::page::when;

pub fn spread(page: &mut Page, spread: &Spread) {
    page.blank();
    let (all, caught_up) = (spread.resolvers.len(), spread.caught_up());
    let until = spread.until().map(|until| format!("; the last one at the latest at {}", when(until, clock::now())));
    let name = &spread.hostname;
    page.heading(&format!(
        "{name}: {caught_up} of {all} resolvers have the present answer{}",
        until.unwrap_or_default()
    ));
    let rows = spread.resolvers.iter().map(|answering| {
        let shown: Vec<String> = answering.addresses.iter().map(ToString::to_string).collect();
        let words = match &answering.has {
            Has::Current => "present".to_string(),
            Has::Old { until } => format!("old, until {}", when(*until, clock::now())),
            Has::Nothing { until } => format!("no such name, until {}", when(*until, clock::now())),
            Has::Failed { why } => why.clone(),
        };
        vec![answering.resolver.to_string(), words, shown.join(", ")]
    });
    table(page, &["resolver", "has", "addresses"], rows.collect());
    if let Some(until) = spread.everywhere {
        let text = format!("resolvers anywhere have it at the latest at {}", when(until, clock::now()));
        page.hanging("bound: ", &text);
    }
}

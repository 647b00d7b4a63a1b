//! How far a change has spread.

use brightharbor_core::survey::{Answering, Has, Spread};
use serde::Serialize;

#[derive(Serialize)]
pub struct SpreadDocument {
    hostname: String,
    current: Vec<String>,
    caught_up: usize,
    until: Option<String>,
    everywhere: Option<String>,
    resolvers: Vec<AnsweringDocument>,
}

#[derive(Serialize)]
struct AnsweringDocument {
    resolver: String,
    addresses: Vec<String>,
    has: &'static str,
    until: Option<String>,
    problem: Option<String>,
}

impl From<&Spread> for SpreadDocument {
    fn from(spread: &Spread) -> Self {
        Self {
            hostname: spread.hostname.clone(),
            current: spread.current.iter().map(ToString::to_string).collect(),
            caught_up: spread.caught_up(),
            until: spread.until().map(|until| until.to_string()),
            everywhere: spread.everywhere.map(|until| until.to_string()),
            resolvers: spread.resolvers.iter().map(AnsweringDocument::from).collect(),
        }
    }
}

impl From<&Answering> for AnsweringDocument {
    fn from(answering: &Answering) -> Self {
        let (has, until, problem) = match &answering.has {
            Has::Current => ("current", None, None),
            Has::Old { until } => ("old", Some(until), None),
            Has::Nothing { until } => ("nothing", Some(until), None),
            Has::Failed { why } => ("failed", None, Some(why.clone())),
        };
        Self {
            resolver: answering.resolver.to_string(),
            addresses: answering.addresses.iter().map(ToString::to_string).collect(),
            has,
            until: until.map(ToString::to_string),
            problem,
        }
    }
}

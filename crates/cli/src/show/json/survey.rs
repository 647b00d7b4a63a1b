//! The six links.

use brightharbor_core::survey::{Link, LinkState, Survey, Turn};
use serde::Serialize;

#[derive(Serialize)]
pub struct SurveyDocument {
    hostname: String,
    all_hold: bool,
    stops_at: Option<&'static str>,
    links: Vec<LinkDocument>,
}

#[derive(Serialize)]
struct LinkDocument {
    link: &'static str,
    state: &'static str,
    until: Option<String>,
    code: &'static str,
    because: String,
    turn: Option<&'static str>,
    values: Vec<String>,
}

impl From<&Survey> for SurveyDocument {
    fn from(survey: &Survey) -> Self {
        Self {
            hostname: survey.hostname.to_string(),
            all_hold: survey.all_hold(),
            stops_at: survey.first_open().map(|link| link.name.word()),
            links: survey.links.iter().map(LinkDocument::from).collect(),
        }
    }
}

impl From<&Link> for LinkDocument {
    fn from(link: &Link) -> Self {
        let until = match link.state {
            LinkState::Waiting(until) => until.map(|until| until.to_string()),
            _ => None,
        };
        let turn = link.turn.map(|turn| match turn {
            Turn::Registrar => "registrar",
            Turn::DnsHost => "dns-host",
            Turn::Administrator => "administrator",
            Turn::Tend => "tend",
            Turn::Caches => "caches",
        });
        Self {
            link: link.name.word(),
            state: link.state.word(),
            until,
            code: link.code,
            because: link.because.clone(),
            turn,
            values: link.values.clone(),
        }
    }
}

//! A record of a zone that is kept elsewhere: the exact lines to enter or remove there, to be copied.

use brightharbor_core::zone::Zone;
use brightharbor_core::zone::{AlterRequest, Alteration, Record};
use brightharbor_io::watch::Watched;
use serde_json::{Value, json};

use crate::error::Exit;
use crate::run::Context;
use crate::show::Shown;
use crate::show::human::{self, Page};
use crate::show::json::WatchedDocument;

/// What new records get where neither the command nor the zone says.
const TTL: u32 = 3600;

pub struct Elsewhere {
    verb: &'static str,
    zone: String,
    said: Vec<String>,
    /// What stands above the lines.
    task: String,
    lines: Vec<String>,
    pub watched: Option<Watched>,
    handed_over: bool,
}

impl Elsewhere {
    pub fn new(verb: &'static str, zone: &Zone, request: &AlterRequest, said: Vec<String>) -> Self {
        let (owner, kind) = (&request.owner, request.record_type);
        let whose = format!("where the zone {} is kept", zone.name);
        let (task, data, ttl) = match &request.alteration {
            Alteration::Add { ttl, data } => (format!("To enter {whose}:"), data, ttl.unwrap_or(TTL)),
            Alteration::Replace { ttl, data } => {
                let task = format!("To enter {whose}, in place of all {kind} records of {}:", owner.bare());
                (task, data, ttl.unwrap_or(TTL))
            }
            Alteration::Remove { data } if data.is_empty() => {
                (format!("To remove {whose}: all {kind} records of {}", owner.bare()), data, TTL)
            }
            Alteration::Remove { data } => (format!("To remove {whose}:"), data, TTL),
        };
        let line = |data| Record { owner: owner.clone(), ttl, data }.to_string();
        let lines = data.iter().cloned().map(line).collect();
        Self { verb, zone: zone.name.to_string(), said, task, lines, watched: None, handed_over: false }
    }

    /// Prints the lines at once, on a terminal or not, so that they can be entered while the servers are watched.
    pub fn hand_over(&mut self, context: &Context) {
        if !context.json {
            self.handed_over = true;
            context.progress.suspend(|| drop(crate::show::print_now(|page| self.lines(page))));
        }
    }

    fn lines(&self, page: &mut Page) {
        for said in &self.said {
            page.hanging("note: ", said);
        }
        page.line(&self.task);
        self.lines.iter().for_each(|line| page.line(&format!("  {line}")));
    }
}

impl Shown for Elsewhere {
    fn human(&self, page: &mut Page) {
        if !self.handed_over {
            self.lines(page);
        }
        if let Some(watched) = &self.watched {
            human::watched(page, watched);
        }
    }

    fn json(&self) -> Value {
        json!({
            "command": format!("record {}", self.verb),
            "carried_out": false,
            "zone": self.zone,
            "remarks": self.said.iter().map(|text| json!({ "code": "taken", "text": text })).collect::<Vec<_>>(),
            "task": self.task,
            "lines": self.lines,
            "watched": self.watched.as_ref().map(WatchedDocument::from),
        })
    }

    /// Somebody else's turn, until it was seen to be done.
    fn exit(&self) -> Exit {
        match &self.watched {
            Some(watched) if watched.everywhere() => Exit::Done,
            _ => Exit::Waits,
        }
    }
}

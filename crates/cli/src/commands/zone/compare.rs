//! `zone compare`: a zone of the harbor against what the world is answered for it today, set by set.

use std::net::SocketAddr;

use brightharbor_core::harbor::ServerAddress;
use brightharbor_core::name::Hostname;
use brightharbor_core::zone::{Difference, FormerSource, FormerZone, set_words};
use brightharbor_io::load::{ZoneCompared, compare_zone};
use clap::Args;
use serde_json::{Value, json};

use super::source::find;
use crate::commands::Report;
use crate::error::{Error, Exit};
use crate::run::Context;
use crate::show::human::{Page, table};
use crate::show::{Shown, counted};

/// Compare a zone with what the world is answered for it today, before its domain moves here.
///
/// The servers that the parent names are asked for the whole zone, and where they do not give it, for all names of the zone
/// here and for those that are usual. What only the world has would be lost with the move.
#[derive(Debug, Args)]
pub struct Compare {
    /// The zone.
    zone: String,
    /// A server to compare with, in place of those that the parent names. May be given several times.
    #[arg(long = "with", value_name = "ADDRESS[:PORT]")]
    with: Vec<ServerAddress>,
}

pub fn run(args: &Compare, context: &Context) -> Report {
    let harbor = context.open()?;
    let zone = find(&harbor, &args.zone)?;
    context.progress.doing(&format!("comparing {} with what the world is answered", zone.name));
    let port = harbor.settings.internet.dns_port();
    let servers: Vec<SocketAddr> = args.with.iter().map(|server| server.socket(port)).collect();
    match context.block_on(compare_zone(&harbor, &zone, &servers))?? {
        ZoneCompared::Differs { there, differences } => {
            Ok(Box::new(ComparedZones { zone: zone.name, there, differences }))
        }
        ZoneCompared::InUse => Ok(Box::new(Same { zone: zone.name, why: "in-use" })),
        ZoneCompared::NotDelegated => Ok(Box::new(Same { zone: zone.name, why: "not-delegated" })),
        ZoneCompared::Silent => {
            let message = format!("no server that {} is delegated to answers for it", zone.name);
            Err(Error::refused("nobody-answers", message)
                .advice(format!("see why: brightharbor delegation check {}; or name a server with --with", zone.name)))
        }
    }
}

/// There is nothing to compare with.
struct Same {
    zone: Hostname,
    why: &'static str,
}

impl Shown for Same {
    fn human(&self, page: &mut Page) {
        let zone = &self.zone;
        match self.why {
            "in-use" => page.line(&format!("{zone}: the world is answered by the servers of this harbor.")),
            _ => page.line(&format!("{zone}: not delegated to anybody; there is nothing to compare with.")),
        }
    }

    fn json(&self) -> Value {
        json!({ "command": "zone compare", "zone": self.zone, "state": self.why, "differences": [] })
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}

struct ComparedZones {
    zone: Hostname,
    there: FormerZone,
    differences: Vec<Difference>,
}

impl ComparedZones {
    fn source(&self) -> (String, &'static str) {
        match &self.there.from {
            FormerSource::Transfer(server) => (server.to_string(), "transfer"),
            FormerSource::Questions(server) => (server.to_string(), "questions"),
            FormerSource::File(name) => (name.clone(), "file"),
        }
    }

    fn losses(&self) -> usize {
        self.differences.iter().filter(|one| one.differs.is_loss()).count()
    }
}

impl Shown for ComparedZones {
    fn human(&self, page: &mut Page) {
        let (server, how) = self.source();
        let losses = self.losses();
        let verdict = match (losses, self.differences.is_empty()) {
            (0, true) => format!("no differences from {server}"),
            (0, false) => format!("no records of {server} would be lost"),
            _ => format!("{} of {server} would be lost or changed", counted(losses, "record set")),
        };
        page.heading(&format!("{}: {verdict}", self.zone));
        if !self.differences.is_empty() {
            page.blank();
            let cell = |data: &[String]| if data.is_empty() { "-".to_string() } else { data.join("\n") };
            let row = |one: &Difference| {
                let set = set_words(&one.owner, one.record_type, &self.there.origin);
                vec![set, one.differs.words().to_string(), cell(&one.here), cell(&one.there)]
            };
            table(page, &["set", "", "here", "there"], self.differences.iter().map(row).collect());
        }
        if how == "questions" {
            page.blank();
            page.hanging(
                "note: ",
                &format!("{server} allows no transfer: rarely used names cannot be seen from outside"),
            );
        }
        if losses > 0 {
            page.blank();
            page.hanging(
                "next: ",
                "before the domain moves, enter what is lost: brightharbor record add, record replace",
            );
        }
    }

    fn json(&self) -> Value {
        let (server, how) = self.source();
        json!({
            "command": "zone compare",
            "zone": self.zone,
            "state": "compared",
            "server": server,
            "by": how,
            "losses": self.losses(),
            "differences": self.differences.iter().map(|one| json!({
                "name": one.owner,
                "type": one.record_type,
                "differs": one.differs.word(),
                "here": one.here,
                "there": one.there,
            })).collect::<Vec<_>>(),
        })
    }

    fn exit(&self) -> Exit {
        if self.losses() > 0 { Exit::Fault } else { Exit::Done }
    }
}

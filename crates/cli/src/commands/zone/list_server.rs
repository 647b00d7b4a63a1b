//! `zone list --server`: the zones that the DNS server has from its own configuration, beside those of this harbor.

use std::net::SocketAddr;

use brightharbor_core::name::Hostname;
use brightharbor_core::render::{DefinedZone, ZoneKind};
use brightharbor_core::zone::Serials;
use brightharbor_io::server::ask_serials;
use serde_json::{Value, json};

use super::source::server_zones;
use crate::commands::Report;
use crate::error::Exit;
use crate::narrowed::{Narrowed, WithText};
use crate::run::Context;
use crate::show::human::Page;
use crate::show::{Shown, counted};

pub fn run(with: &WithText, context: &Context, ask: bool) -> Report {
    let harbor = context.open()?;
    let server = harbor.settings.dns.server;
    let zones = server_zones(&harbor)?;
    let of = zones.len();
    let serials = match (harbor.settings.dns.address, ask) {
        (Some(address), true) => {
            context.progress.doing("asking the server for its serials");
            let asked = zones.iter().filter_map(|zone| Some((address, Hostname::parse_zone(&zone.name).ok()?)));
            context.block_on(ask_serials(asked.collect()))?
        }
        _ => Serials::new(),
    };
    let answers = Answers { serials, address: harbor.settings.dns.address };
    let zones = with.narrow(zones, of, |zone| answers.cells(zone));
    Ok(Box::new(ServerZones { zones, answers, server: server.words() }))
}

/// What the server says of its zones.
struct Answers {
    serials: Serials,
    address: Option<SocketAddr>,
}

impl Answers {
    fn serial(&self, zone: &DefinedZone) -> Option<&Result<u32, String>> {
        self.serials.get(&(self.address?, Hostname::parse_zone(&zone.name).ok()?))
    }

    fn cells(&self, zone: &DefinedZone) -> Vec<String> {
        let serial = match self.serial(zone) {
            Some(Ok(serial)) => serial.to_string(),
            Some(Err(words)) => words.clone(),
            None => String::new(),
        };
        let kind = match zone.kind {
            ZoneKind::Primary => format!("primary, {}", zone.manner.words()),
            kind => kind.word().to_string(),
        };
        let file = zone.file.as_ref().map(|file| file.display().to_string()).unwrap_or_default();
        vec![zone.name.clone(), kind, serial, file, format!("{}:{}", zone.defined_in.display(), zone.line)]
    }
}

struct ServerZones {
    zones: Narrowed<DefinedZone>,
    answers: Answers,
    server: &'static str,
}

impl ServerZones {
    fn can_be_taken_over(zone: &DefinedZone) -> bool {
        zone.kind == ZoneKind::Primary && zone.manner.is_static() && zone.file.is_some()
    }
}

impl Shown for ServerZones {
    fn human(&self, page: &mut Page) {
        let none = format!("The configuration of {} defines no zones beside those kept here.", self.server);
        if self.zones.of > 0 {
            let verb = if self.zones.of == 1 { "is" } else { "are" };
            page.heading(&format!("{} of {} that {verb} not kept here", counted(self.zones.of, "zone"), self.server));
        }
        let headings = ["zone", "kind", "serial", "file", "defined in"];
        self.zones.show(page, "zone", &none, &headings, |zone| self.answers.cells(zone));
        // Those that every installation has are nobody's to keep.
        let of_somebody = |zone: &&DefinedZone| {
            Self::can_be_taken_over(zone) && zone.name.contains('.') && !zone.name.ends_with("in-addr.arpa")
        };
        if let Some(zone) = self.zones.rows.iter().find(of_somebody) {
            page.blank();
            let how = format!(
                "to keep one here, as it is: brightharbor zone create {} --account ACCOUNT --from-server",
                zone.name
            );
            page.hanging("", &how);
        }
    }

    fn json(&self) -> Value {
        let row = |zone: &DefinedZone| {
            let serial = self.answers.serial(zone);
            json!({
                "zone": zone.name,
                "kind": zone.kind.word(),
                "dynamic": zone.manner.dynamic,
                "signed": zone.manner.signed,
                "in_view": zone.manner.in_view,
                "file": zone.file.as_ref().map(|file| file.display().to_string()),
                "defined_in": zone.defined_in.display().to_string(),
                "line": zone.line,
                "serial": serial.and_then(|serial| serial.as_ref().ok()),
                "problem": serial.and_then(|serial| serial.as_ref().err()),
                "can_be_taken_over": Self::can_be_taken_over(zone),
            })
        };
        let mut document = json!({
            "command": "zone list",
            "server": self.server,
            "zones": self.zones.rows.iter().map(row).collect::<Vec<_>>(),
        });
        self.zones.counts_into(&mut document);
        document
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}

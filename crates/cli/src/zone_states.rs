//! What of a zone stands where: in its file, and on each server that should have it. For `zone list` and `report`.

use brightharbor_core::zone::{Holder, Holding, Serials, Zone, ZoneHome, holders, newest_of};
use brightharbor_io::harbor::Harbor;
use brightharbor_io::install::read_if_there;
use brightharbor_io::load::LoadedFiles;
use brightharbor_io::master_file::{Includes, parse_file};
use brightharbor_io::server::ask_serials;

use crate::error::Error;

/// Asks every server that should have one of the zones for its serial.
pub async fn serials_of(harbor: &Harbor, zones: &[Zone]) -> Serials {
    let of_zone = |zone: &Zone| {
        let name = zone.name.clone();
        holders(&harbor.settings, zone).into_iter().map(move |holder| (holder.address, name.clone()))
    };
    ask_serials(zones.iter().flat_map(of_zone).collect()).await
}

/// A zone, and who has what of it.
pub struct ZoneState {
    pub zone: Zone,
    pub contents: Contents,
    /// Somebody has edited the file since it was loaded from here.
    pub edited: bool,
    pub held: Vec<(Holder, Holding)>,
}

/// What its records are in.
pub enum Contents {
    Elsewhere,
    Remote { serial: Option<u32> },
    Read { serial: u32, records: usize },
    Broken(String),
}

impl ZoneState {
    /// Reads the file; `serials` is what the servers answered.
    pub fn read(harbor: &Harbor, zone: Zone, serials: &Serials, loaded: &LoadedFiles) -> Result<Self, Error> {
        let mut edited = false;
        let holders = holders(&harbor.settings, &zone);
        let includes = Includes::OfServer(harbor.settings.dns.directory.as_deref());
        let contents = match zone.home {
            ZoneHome::Elsewhere => Contents::Elsewhere,
            ZoneHome::Remote => {
                let answered = holders.first().and_then(|primary| serials.get(&(primary.address, zone.name.clone())));
                Contents::Remote { serial: answered.and_then(|answer| answer.clone().ok()) }
            }
            ZoneHome::Here => match read_if_there(&harbor.layout.zone_file(&zone.name))?
                .inspect(|content| edited = loaded.differ(&zone.name, Some(content)))
            {
                None => Contents::Broken("the file is gone".into()),
                Some(bytes) => match parse_file(bytes, &zone.name.dns_name(), includes) {
                    Ok(zone) => Contents::Read { serial: zone.soa().serial, records: zone.records().count() },
                    Err(error) => Contents::Broken(error.to_string()),
                },
            },
        };
        let newest = match contents {
            Contents::Read { serial, .. } => Some(serial),
            Contents::Remote { serial } => serial,
            Contents::Elsewhere | Contents::Broken(_) => None,
        };
        let newest = newest.map(|file| newest_of(&zone, file, &holders, serials)).unwrap_or_default();
        let held = holders.into_iter().map(|holder| {
            let holding = Holding::of(&holder, &zone.name, newest, serials);
            (holder, holding)
        });
        Ok(Self { held: held.collect(), zone, contents, edited })
    }

    pub fn asked(&self) -> impl Iterator<Item = &(Holder, Holding)> {
        self.held.iter().filter(|(_, holding)| *holding != Holding::NotAsked)
    }

    /// The servers that have another zone than they should, each with what it has.
    pub fn out_of_step(&self) -> Vec<String> {
        let behind = self.asked().filter(|(_, holding)| !holding.is_in_step());
        behind.map(|(holder, holding)| format!("{}: {}", holder.name, holding.words())).collect()
    }

    /// Where the servers are with the zone, in a few words.
    pub fn served(&self) -> String {
        let out_of_step = self.out_of_step();
        let servers = match (self.asked().count(), out_of_step.is_empty()) {
            (0, _) => String::new(),
            // Which of both it serves is not known.
            (_, true) if self.edited => String::new(),
            (1, true) => "loaded".into(),
            (count, true) => format!("all {count} in step"),
            (_, false) => out_of_step.join("; "),
        };
        match (self.edited, servers.is_empty()) {
            (false, _) => servers,
            (true, true) => "file edited by hand since".into(),
            (true, false) => format!("{servers}; file edited by hand since"),
        }
    }
}

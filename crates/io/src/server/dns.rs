//! The DNS server: its own zone check, loading what has changed, and asking it until it answers with the new serial.
//!
//! The servers differ in the words of their remote control alone (`rndc`, `knotc`, `nsd-control`); it is started once
//! for a command, however many zones there are.

use std::net::SocketAddr;
use std::path::Path;
use std::time::{Duration, Instant};

use brightharbor_core::change::Needs;
use brightharbor_core::delegation::{Outcome, Question};
use brightharbor_core::harbor::{DnsServer, Layout, NewZones, Settings};
use brightharbor_core::name::Hostname;
use brightharbor_core::render::{is_published, zone_stanza};
use brightharbor_core::zone::{RecordData, RecordType, serial_is_newer};

use super::process::run_bounded_in;
use super::{ServerError, control, run_bounded};
use crate::dns::ask;
use crate::zones::parse_file;

const PATIENCE: Duration = Duration::from_secs(8);

/// Lets the server's own checker read a zone file.
pub fn check_zone(settings: &Settings, zone: &Hostname, file: &Path) -> Result<(), ServerError> {
    let (zone, file) = (zone.to_string(), file.display().to_string());
    let more = match settings.dns.server {
        _ if settings.dns.check.is_empty() => return Ok(()),
        DnsServer::Bind | DnsServer::Nsd => vec![zone, file],
        DnsServer::Knot => vec!["-o".into(), zone, file],
        DnsServer::StandIn | DnsServer::None => return Ok(()),
    };
    // The server reads included files from its working directory, and so must its checker.
    run_bounded_in(settings.dns.directory.as_deref(), &settings.dns.check, &more).map(|_| ())
}

/// Makes the server load what has changed.
pub fn load_zones(settings: &Settings, layout: &Layout, needs: &Needs) -> Result<(), ServerError> {
    if !needs.dns() {
        return Ok(());
    }
    for order in orders(settings, layout, needs) {
        run_bounded(&settings.dns.control_command, &order)?;
    }
    if settings.dns.server == DnsServer::StandIn {
        control::order(settings.dns.control.ok_or(ServerError::NotSet("[dns] control"))?, "reload")?;
    }
    Ok(())
}

/// Makes the server forget the zones that a command taken back had made it load.
pub fn unload_zones(settings: &Settings, layout: &Layout, needs: &Needs) -> Result<(), ServerError> {
    if settings.dns.server == DnsServer::Bind && settings.dns.new_zones == NewZones::Addzone {
        for zone in &needs.new_zones {
            // One that BIND had not been told of yet is unknown to it, as it should be.
            match run_bounded(&settings.dns.control_command, &["delzone".to_string(), zone.to_string()]) {
                Err(ServerError::Refused { output, .. }) if output.contains("not found") => {}
                other => drop(other?),
            }
        }
        // Those that it was told to forget are files again.
        let left = Needs { new_zones: needs.gone_zones.clone(), gone_zones: vec![], ..needs.clone() };
        return load_zones(settings, layout, &left);
    }
    load_zones(settings, layout, needs)
}

/// What the remote control is told.
fn orders(settings: &Settings, layout: &Layout, needs: &Needs) -> Vec<Vec<String>> {
    let words = |text: &str| vec![text.to_string()];
    let one = |order: &str, zone: &Hostname| vec![order.to_string(), zone.to_string()];
    match settings.dns.server {
        DnsServer::Bind => {
            let added = match settings.dns.new_zones {
                NewZones::Addzone => &needs.new_zones[..],
                NewZones::List => &[],
            };
            let index = std::fs::read_to_string(layout.zone_index(DnsServer::Bind)).unwrap_or_default();
            let published = is_published(&index);
            let add = added.iter().map(|zone| {
                let stanza = zone_stanza(DnsServer::Bind, zone, &layout.zone_file(zone), published);
                let options = stanza.trim().strip_prefix(&format!("zone \"{zone}\"")).unwrap_or_default();
                vec!["addzone".into(), zone.to_string(), options.trim().to_string()]
            });
            let mut orders: Vec<Vec<String>> = add.collect();
            if settings.dns.new_zones == NewZones::Addzone {
                orders.extend(needs.gone_zones.iter().map(|zone| one("delzone", zone)));
            }
            orders.extend(match (needs.zone_list, &needs.zones[..]) {
                (false, []) => None,
                (false, [zone]) => Some(one("reload", zone)),
                // New zones are read with the configuration; `reload` covers both when old ones changed too.
                (true, []) => Some(words("reconfig")),
                _ => Some(words("reload")),
            });
            orders
        }
        DnsServer::Knot if needs.zone_list => vec![words("reload")],
        DnsServer::Knot => {
            let zones = needs.all_zones().map(Hostname::to_string);
            if needs.all_zones().next().is_none() {
                return vec![];
            }
            vec![std::iter::once("zone-reload".to_string()).chain(zones).collect()]
        }
        DnsServer::Nsd => {
            let mut orders = Vec::new();
            if needs.zone_list {
                orders.push(words("reconfig"));
            }
            match &needs.zones[..] {
                [] => {}
                [zone] => orders.push(one("reload", zone)),
                _ => orders.push(words("reload")),
            }
            orders
        }
        DnsServer::StandIn | DnsServer::None => vec![],
    }
}

/// Asks the server until it answers for the zone with the serial that the file has.
pub async fn await_serial(settings: &Settings, layout: &Layout, zone: &Hostname) -> Result<(), ServerError> {
    let (Some(address), false) = (settings.dns.address, settings.dns.server == DnsServer::None) else {
        return Ok(());
    };
    let file = std::fs::read(layout.zone_file(zone));
    let document = file.map(|bytes| parse_file(bytes, &zone.dns_name(), settings.dns.directory.as_deref()));
    let Ok(Ok(document)) = document else { return Ok(()) };
    let wanted = document.soa().serial;
    await_answer(address, zone, wanted, |serial| serial == wanted || serial_is_newer(serial, wanted)).await
}

/// Asks a primary server until it answers with a newer serial than before the update.
pub async fn await_newer(address: SocketAddr, zone: &Hostname, before: u32) -> Result<(), ServerError> {
    await_answer(address, zone, before.wrapping_add(1), |serial| serial_is_newer(serial, before)).await
}

async fn await_answer(
    address: SocketAddr,
    zone: &Hostname,
    wanted: u32,
    enough: impl Fn(u32) -> bool,
) -> Result<(), ServerError> {
    let deadline = Instant::now() + PATIENCE;
    loop {
        let last = match ask_serial(address, zone).await {
            Ok(serial) if enough(serial) => return Ok(()),
            Ok(serial) => format!("it still has serial {serial}"),
            Err(words) => words,
        };
        if Instant::now() > deadline {
            let seconds = PATIENCE.as_secs();
            return Err(ServerError::NotLoaded { address, zone: zone.to_string(), serial: wanted, seconds, last });
        }
        tokio::time::sleep(Duration::from_millis(40)).await;
    }
}

/// The serial that a server answers with for the zone; else what it did, in words.
pub async fn ask_serial(address: SocketAddr, zone: &Hostname) -> Result<u32, String> {
    let question = Question::authoritative(address, &zone.dns_name(), RecordType::SOA);
    match ask(&question).await.outcome {
        Outcome::Reply(reply) => {
            let serial = reply.answer.iter().find_map(|record| match &record.data {
                RecordData::Soa(soa) => Some(soa.serial),
                _ => None,
            });
            serial.filter(|_| reply.authoritative).ok_or_else(|| format!("it answers {}", reply.rcode_word()))
        }
        other => Err(format!("it {}", other.in_words())),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(server: DnsServer, list: bool, zones: &[&str], new: &[&str]) -> Vec<String> {
        let names = |all: &[&str]| all.iter().map(|name| Hostname::parse(name).unwrap()).collect::<Vec<_>>();
        let needs = Needs { zone_list: list, zones: names(zones), new_zones: names(new), ..Needs::default() };
        let mut settings = Settings::default();
        settings.dns.server = server;
        settings.dns.new_zones = if list { NewZones::List } else { NewZones::Addzone };
        orders(&settings, &Layout::new("/h"), &needs).iter().map(|order| order.join(" ")).collect()
    }

    #[test]
    fn each_server_is_told_in_its_own_words() {
        let (a, b) = ("a.example", "b.example");
        assert_eq!(told(DnsServer::Bind, false, &[a], &[]), ["reload a.example"]);
        assert_eq!(told(DnsServer::Bind, false, &[a, b], &[]), ["reload"]);
        assert_eq!(told(DnsServer::Bind, true, &[], &[a]), ["reconfig"]);
        assert_eq!(told(DnsServer::Bind, true, &[b], &[a]), ["reload"]);
        let added = "addzone a.example { type primary; file \"/h/zones/a.example.zone\"; };";
        assert_eq!(told(DnsServer::Bind, false, &[], &[a]), [added]);
        assert_eq!(told(DnsServer::Knot, false, &[a, b], &[]), ["zone-reload a.example b.example"]);
        assert_eq!(told(DnsServer::Knot, true, &[b], &[a]), ["reload"]);
        assert_eq!(told(DnsServer::Nsd, true, &[], &[a]), ["reconfig"]);
        assert_eq!(told(DnsServer::Nsd, false, &[a], &[]), ["reload a.example"]);
    }
}

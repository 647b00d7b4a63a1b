//! The DNS server: its own zone check, loading what has changed, and asking it until it answers with the new serial.

use std::path::Path;
use std::time::{Duration, Instant};

use brightharbor_core::change::Needs;
use brightharbor_core::delegation::{Outcome, Question};
use brightharbor_core::harbor::{DnsServer, Layout, Settings};
use brightharbor_core::name::Hostname;
use brightharbor_core::zone::{Document, RecordData, RecordType, serial_is_newer};

use super::{ServerError, control, run_bounded};
use crate::dns::ask;

const PATIENCE: Duration = Duration::from_secs(8);

/// Lets the server's own checker read a zone file.
pub fn check_zone(settings: &Settings, zone: &Hostname, file: &Path) -> Result<(), ServerError> {
    if settings.dns.server != DnsServer::Bind || settings.dns.check.is_empty() {
        return Ok(());
    }
    run_bounded(&settings.dns.check, &[zone.to_string(), file.display().to_string()]).map(|_| ())
}

/// Makes the server load what has changed: one order at most, however many zones.
pub fn load_zones(settings: &Settings, needs: &Needs) -> Result<(), ServerError> {
    match settings.dns.server {
        DnsServer::None => Ok(()),
        DnsServer::StandIn => {
            control::order(settings.dns.control.ok_or(ServerError::NotSet("[dns] control"))?, "reload")
        }
        DnsServer::Bind => {
            let order: Vec<String> = match (needs.zone_list, &needs.zones[..]) {
                (false, []) => return Ok(()),
                (false, [zone]) => vec!["reload".into(), zone.to_string()],
                // New zones are read with the configuration; `reload` covers both when old ones changed too.
                (true, [_]) | (true, []) => vec!["reconfig".into()],
                _ => vec!["reload".into()],
            };
            run_bounded(&settings.dns.control_command, &order).map(|_| ())
        }
    }
}

/// Asks the server until it answers for the zone with the serial that the file has.
pub async fn await_serial(settings: &Settings, layout: &Layout, zone: &Hostname) -> Result<(), ServerError> {
    let (Some(address), false) = (settings.dns.address, settings.dns.server == DnsServer::None) else {
        return Ok(());
    };
    let wanted = match std::fs::read(layout.zone_file(zone)).map(|bytes| Document::parse(bytes, &zone.dns_name())) {
        Ok(Ok(document)) => document.soa().serial,
        _ => return Ok(()),
    };
    let question = Question::authoritative(address, &zone.dns_name(), RecordType::SOA);
    let deadline = Instant::now() + PATIENCE;
    loop {
        let last = match ask(&question).await.outcome {
            Outcome::Reply(reply) => {
                let serial = reply.answer.iter().find_map(|record| match &record.data {
                    RecordData::Soa(soa) => Some(soa.serial),
                    _ => None,
                });
                match serial {
                    Some(serial) if serial == wanted || serial_is_newer(serial, wanted) => return Ok(()),
                    Some(serial) => format!("it still has serial {serial}"),
                    None => format!("it answers {}", reply.rcode_word()),
                }
            }
            other => format!("it {}", other.in_words()),
        };
        if Instant::now() > deadline {
            let seconds = PATIENCE.as_secs();
            return Err(ServerError::NotLoaded { address, zone: zone.to_string(), serial: wanted, seconds, last });
        }
        tokio::time::sleep(Duration::from_millis(40)).await;
    }
}

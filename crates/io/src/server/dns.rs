//! The DNS server: loading what has changed, and asking it until it answers with the new serial. Its own check of zone
//! files is in `zone_checks`.
//!
//! What its programs are told is decided in `core::render::control_orders`.

use std::cell::RefCell;
use std::net::SocketAddr;
use std::time::{Duration, Instant};

use brightharbor_core::change::Needs;
use brightharbor_core::delegation::{Outcome, Question};
use brightharbor_core::harbor::{DnsServer, Layout, Settings};
use brightharbor_core::name::Hostname;
use brightharbor_core::render::{configuration_check, load_orders, parent_orders, taken_back, unsigned_orders};
use brightharbor_core::zone::{ParentNews, RecordData, RecordType, serial_is_newer};
use futures_util::{StreamExt, stream};

use super::{ServerError, control, run_bounded};
use crate::dns::ask;
use crate::install::read_if_there;
use crate::master_file::{Includes, parse_file};

const PATIENCE: Duration = Duration::from_secs(8);
/// Orders of one kind that are given side by side: `rndc` takes one zone a start, and most of that is its own.
const ORDERS_AT_ONCE: usize = 8;

/// Makes the server load what has changed.
pub async fn load_zones(settings: &Settings, layout: &Layout, needs: &Needs) -> Result<(), ServerError> {
    if !needs.dns() {
        return Ok(());
    }
    let zone_list = std::fs::read_to_string(layout.zone_index(DnsServer::Bind)).unwrap_or_default();
    let orders = load_orders(settings, layout, needs, &zone_list);
    for together in orders.chunk_by(|one, next| one[0] == next[0]) {
        if let Err(error) = give_orders(settings, together, |_| false).await {
            return Err(completed(settings, error).await);
        }
    }
    if settings.dns.server == DnsServer::StandIn {
        control::order(settings.dns.control.ok_or(ServerError::NotSet("[dns] control"))?, "reload").await?;
    }
    Ok(())
}

/// Gives the orders side by side. After one that fails, in words that do not count as well, no other is begun, and those that
/// were begun are over before the error comes back.
async fn give_orders(
    settings: &Settings,
    orders: &[Vec<String>],
    is_well: impl Fn(&str) -> bool,
) -> Result<(), ServerError> {
    let first: RefCell<Option<ServerError>> = RefCell::default();
    let given = orders.iter().map(async |order| {
        if first.borrow().is_some() {
            return;
        }
        match run_bounded(&settings.dns.control_command, order).await {
            Err(ServerError::Refused { output, .. }) if is_well(&output) => {}
            Err(error) => drop(first.borrow_mut().get_or_insert(error)),
            Ok(_) => {}
        }
    });
    stream::iter(given).buffer_unordered(ORDERS_AT_ONCE).collect::<()>().await;
    first.into_inner().map_or(Ok(()), Err)
}

/// An error of the control program, with what the server's own checker says of its configuration: `failure` alone helps nobody.
async fn completed(settings: &Settings, error: ServerError) -> ServerError {
    let ServerError::Refused { command, output } = error else { return error };
    let Some(words) = configuration_check(settings) else { return ServerError::Refused { command, output } };
    match run_bounded(&words, &[]).await {
        Err(ServerError::Refused { output: said, .. }) => {
            ServerError::Refused { command, output: format!("{output}; {}: {said}", words.join(" ")) }
        }
        _ => ServerError::Refused { command, output },
    }
}

/// Makes the server forget the zones that a command taken back had made it load.
pub async fn unload_zones(settings: &Settings, layout: &Layout, needs: &Needs) -> Result<(), ServerError> {
    let (gone, left) = taken_back(settings, needs);
    let orders: Vec<Vec<String>> = gone.iter().map(|zone| vec!["delzone".to_string(), zone.to_string()]).collect();
    // One that BIND had not been told of yet is unknown to it, as it should be.
    give_orders(settings, &orders, |output| output.contains("not found")).await?;
    load_zones(settings, layout, &left).await
}

/// So many zones are asked for at the same time.
const SIDE_BY_SIDE: usize = 32;

/// Asks the server until it answers for each zone with the serial that its file has. `answered` hears how many do.
pub async fn await_serials(
    settings: &Settings,
    layout: &Layout,
    zones: &[&Hostname],
    answered: impl Fn(usize),
) -> Result<(), ServerError> {
    let waits = zones.iter().map(|zone| await_serial(settings, layout, zone));
    let mut waits = stream::iter(waits).buffer_unordered(SIDE_BY_SIDE).enumerate();
    while let Some((before, outcome)) = waits.next().await {
        outcome?;
        answered(before + 1);
    }
    Ok(())
}

async fn await_serial(settings: &Settings, layout: &Layout, zone: &Hostname) -> Result<(), ServerError> {
    let (Some(address), false) = (settings.dns.address, settings.dns.server == DnsServer::None) else {
        return Ok(());
    };
    let includes = Includes::OfServer(settings.dns.directory.as_deref());
    let file = read_if_there(&layout.zone_file(zone)).ok().flatten();
    let document = file.and_then(|bytes| parse_file(bytes, &zone.dns_name(), includes).ok());
    let Some(document) = document else { return Ok(()) };
    let wanted = document.soa().serial;
    await_answer(address, zone, wanted, |serial| serial == wanted || serial_is_newer(serial, wanted)).await
}

/// Keys are made and a zone is signed within seconds, but for very large ones.
const SIGNING: Duration = Duration::from_secs(30);

/// Asks the server until it answers for the zone with signatures, or without any.
pub async fn await_signing(settings: &Settings, zone: &Hostname, signed: bool) -> Result<(), ServerError> {
    let Some(address) = settings.dns.address else { return Ok(()) };
    let deadline = Instant::now() + SIGNING;
    let question = Question::authoritative(address, &zone.dns_name(), RecordType::SOA);
    loop {
        if let Outcome::Reply(reply) = ask(&question).await.outcome {
            let is_there = |wanted: RecordType| reply.answer.iter().any(|record| record.record_type() == wanted);
            if is_there(RecordType::SOA) && is_there(RecordType::RRSIG) == signed {
                return Ok(());
            }
        }
        if Instant::now() > deadline {
            let state = if signed { "does not sign" } else { "still signs" };
            return Err(ServerError::NotSigned { address, zone: zone.to_string(), state, seconds: SIGNING.as_secs() });
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}

/// Has the server forget what it kept of a zone's signed form.
pub async fn forget_signing(settings: &Settings, zone: &Hostname, gone: bool) -> Result<(), ServerError> {
    for order in unsigned_orders(settings.dns.server, zone, gone) {
        run_bounded(&settings.dns.control_command, &order).await?;
    }
    Ok(())
}

/// Tells the server what the parent has of the zone's keys by now, so that their rolls go on.
pub async fn tell_of_parent(settings: &Settings, zone: &Hostname, news: &ParentNews) -> Result<(), ServerError> {
    for order in parent_orders(settings.dns.server, zone, news) {
        run_bounded(&settings.dns.control_command, &order).await?;
    }
    Ok(())
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

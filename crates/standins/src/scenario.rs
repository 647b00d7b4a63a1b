//! Small worlds for one delegation: a good one, and others that differ from it in a line or two. Each is a text file in
//! `scenarios/delegation/`; what it must trigger stands in it.
//!
//! ```text
//! fires CODE              the rule that must fire
//! also CODE               another that comes along
//! follows CODE            one that is put under its cause
//! verdict WORD            who notices; `risks` if not given where something fires, else `well`
//! expect NAME             a nameserver that the domain should be delegated to
//! signed                  starts from the signed world instead of the unsigned one (`dns/signing` says how)
//! harbor WORD...          a command to be given to a harbor in that world before the check
//! server SERVER HABIT...  no-udp, no-tcp, no-edns, silent, closed, refuses, fails, denies, zone-above,
//!                         lame, recursion, transfer, garbled
//! in SERVER OLD => NEW    another text in that server's zones; OLD must be there
//! add SERVER LINE         one more line in the server's last zone
//! ```

use std::collections::BTreeMap;
use std::net::{IpAddr, SocketAddr};

use std::sync::{Arc, RwLock};

use tokio::runtime::Runtime;

use crate::dns::server::{Habits, serve_with};
use crate::dns::signing::fill_keys;
use crate::dns::zone_data::ZoneData;
use crate::family::Family;
use crate::world::WorldError;

/// The key of the root of a signed world, as a file of trust anchors.
pub fn trust_anchor() -> String {
    format!(". DNSKEY {}\n", fill_keys("{key}"))
}

/// The scenarios, by name.
pub const SCENARIOS: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/scenarios/delegation");

/// Everybody in these worlds, with the last two octets of their addresses: the second nameserver lives in another network.
const SERVERS: [(&str, [u8; 2]); 6] = [
    ("root", [0, 1]),
    ("registry", [0, 2]),
    ("registry2", [0, 3]),
    ("provider", [0, 6]),
    ("ns1", [0, 4]),
    ("ns2", [1, 5]),
];

/// What a scenario file says.
#[derive(Debug, Clone, Default)]
pub struct Scenario {
    pub fires: Option<String>,
    pub also: Vec<String>,
    pub follows: Vec<String>,
    pub verdict: Option<String>,
    pub expect: Vec<String>,
    pub harbor: Vec<Vec<String>>,
    pub signed: bool,
    habits: BTreeMap<String, Habits>,
    replaced: Vec<(String, String, String)>,
    added: Vec<(String, String)>,
}

/// A running world; it ends when dropped.
pub struct Delegated {
    pub root: SocketAddr,
    pub dns_port: u16,
    addresses: BTreeMap<&'static str, IpAddr>,
    runtime: Option<Runtime>,
}

fn failed(error: impl ToString) -> WorldError {
    WorldError(error.to_string())
}

impl Scenario {
    /// Reads a scenario; what cannot be understood is told with its line.
    pub fn read(text: &str) -> Result<Self, String> {
        let mut scenario = Self::default();
        for (number, line) in text.lines().enumerate() {
            let line = line.trim();
            if line.is_empty() || line.starts_with(';') {
                continue;
            }
            let (word, rest) = line.split_once(' ').unwrap_or((line, ""));
            let (first, more) = rest.split_once(' ').unwrap_or((rest, ""));
            let wrong = |what: &str| Err(format!("line {}: {what}: {line}", number + 1));
            if matches!(word, "server" | "in" | "add") && !SERVERS.iter().any(|(name, _)| *name == first) {
                return wrong("there is no such server");
            }
            match word {
                "fires" => scenario.fires = Some(rest.to_string()),
                "also" => scenario.also.push(rest.to_string()),
                "follows" => scenario.follows.push(rest.to_string()),
                "verdict" => scenario.verdict = Some(rest.to_string()),
                "expect" => scenario.expect.push(rest.to_string()),
                "signed" => scenario.signed = true,
                "harbor" => scenario.harbor.push(rest.split(' ').map(String::from).collect()),
                "add" => scenario.added.push((first.into(), more.into())),
                "in" => match more.split_once(" => ") {
                    Some((old, new)) => scenario.replaced.push((first.into(), old.into(), new.into())),
                    None => return wrong("no ` => `"),
                },
                "server" => {
                    let habits = scenario.habits.entry(first.into()).or_default();
                    for habit in more.split(' ') {
                        match habit {
                            "no-udp" => habits.no_udp = true,
                            "no-tcp" => habits.no_tcp = true,
                            "no-edns" => habits.no_edns = true,
                            "silent" => habits.silent = true,
                            "closed" => habits.closed = true,
                            "refuses" => habits.refuses = true,
                            "fails" => habits.fails = true,
                            "denies" => habits.denies = true,
                            "zone-above" => habits.zone_above = true,
                            "lame" => habits.lame = true,
                            "recursion" => habits.recursion = true,
                            "transfer" => habits.transfer = true,
                            "garbled" => habits.garbled = true,
                            _ => return wrong("no such habit"),
                        }
                    }
                }
                _ => return wrong("unknown word"),
            }
        }
        Ok(scenario)
    }

    /// The zones of one server, each with its origin: the lines of the base, with what this scenario changes.
    fn zones(&self, server: &str, cast: &dyn Fn(&str) -> String) -> Result<Vec<(String, String)>, String> {
        let base = if self.signed {
            include_str!("../scenarios/signed.base")
        } else {
            include_str!("../scenarios/unsigned.base")
        };
        let mut zones: Vec<(String, String)> = Vec::new();
        let mut mine = false;
        for line in base.lines() {
            if let Some(head) = line.strip_prefix("zone ") {
                let mut words = head.split(' ');
                let origin = words.next().unwrap_or_default().to_string();
                mine = words.any(|name| name == server);
                if mine {
                    zones.push((origin, String::new()));
                }
            } else if let Some((_, text)) = zones.last_mut().filter(|_| mine) {
                text.push_str(line);
                text.push('\n');
            }
        }
        for (_, old, new) in self.replaced.iter().filter(|(at, ..)| at == server) {
            let text = zones.iter_mut().find(|(_, text)| text.contains(old));
            let Some((_, text)) = text else { return Err(format!("`{old}` is in no zone of {server}")) };
            *text = text.replace(old, new);
        }
        for (_, line) in self.added.iter().filter(|(at, _)| at == server) {
            match zones.last_mut() {
                Some((_, text)) => text.push_str(&format!("{line}\n")),
                None => return Err(format!("{server} has no zone")),
            }
        }
        Ok(zones.into_iter().map(|(origin, text)| (origin, cast(&text))).collect())
    }

    /// Starts the world on loopback. `now` fills `{+10d}` and `{-1d}` in: times of signatures.
    pub fn start(&self, now: jiff::Timestamp) -> Result<Delegated, WorldError> {
        let runtime =
            tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build().map_err(failed)?;
        let mut last = WorldError("no free addresses".into());
        for attempt in 0..40_u32 {
            match runtime.block_on(self.build(attempt, now)) {
                Ok(mut world) => {
                    world.runtime = Some(runtime);
                    return Ok(world);
                }
                Err(error) => last = error,
            }
        }
        Err(last)
    }

    async fn build(&self, attempt: u32, now: jiff::Timestamp) -> Result<Delegated, WorldError> {
        let seed = std::process::id()
            .wrapping_mul(131)
            .wrapping_add(next_seed().wrapping_mul(31))
            .wrapping_add(attempt.wrapping_mul(7919));
        let (a, b) = (64 + (seed >> 9) as u8 % 128, (seed as u8) & 0xfe);
        let family = Family::of_this_process();
        let addresses: BTreeMap<&'static str, IpAddr> =
            SERVERS.iter().map(|(name, [c, d])| (*name, family.address([127, a, b | c], *d))).collect();
        let probe = std::net::UdpSocket::bind((addresses["root"], 0)).map_err(failed)?;
        let dns_port = probe.local_addr().map_err(failed)?.port();
        drop(probe);
        let cast = |text: &str| {
            let filled = addresses
                .iter()
                .fold(text.to_string(), |text, (name, address)| family.fill(&text, &format!("{{{name}}}"), *address));
            fill_times(&fill_keys(&filled), now)
        };
        for (name, address) in &addresses {
            let zones = self.zones(name, &cast).map_err(WorldError)?;
            let read = zones.iter().map(|(origin, text)| ZoneData::read(origin, text));
            let zones = Arc::new(RwLock::new(read.collect::<Result<Vec<_>, _>>().map_err(failed)?));
            let habits = self.habits.get(*name).copied().unwrap_or_default();
            if habits.closed {
                continue;
            }
            serve_with(SocketAddr::new(*address, dns_port), zones, habits).await.map_err(failed)?;
        }
        Ok(Delegated { root: SocketAddr::new(addresses["root"], dns_port), dns_port, addresses, runtime: None })
    }
}

/// Worlds that start at once in one process get addresses of their own.
fn next_seed() -> u32 {
    use std::sync::atomic::{AtomicU32, Ordering};
    static NEXT: AtomicU32 = AtomicU32::new(0);
    NEXT.fetch_add(1, Ordering::Relaxed)
}

/// `{+10d}` and `{-36h}` as the times of a signature are written (RFC 4034 section 3.2).
fn fill_times(text: &str, now: jiff::Timestamp) -> String {
    let mut filled = String::with_capacity(text.len());
    let mut rest = text;
    while let Some((before, after)) = rest.split_once('{') {
        filled.push_str(before);
        let Some((inside, behind)) = after.split_once('}') else { break };
        let hours = inside
            .strip_suffix('d')
            .and_then(|days| days.parse::<i64>().ok().map(|days| days * 24))
            .or_else(|| inside.strip_suffix('h').and_then(|hours| hours.parse::<i64>().ok()));
        match hours {
            Some(hours) => {
                let at = now + jiff::SignedDuration::from_hours(hours);
                filled.push_str(&at.strftime("%Y%m%d%H%M%S").to_string());
            }
            None => filled.push_str(inside),
        }
        rest = behind;
    }
    filled.push_str(rest);
    filled
}

impl Delegated {
    /// The address of somebody in this world.
    pub fn address(&self, server: &str) -> Option<IpAddr> {
        self.addresses.get(server).copied()
    }
}

impl Drop for Delegated {
    fn drop(&mut self) {
        if let Some(runtime) = self.runtime.take() {
            runtime.shutdown_background();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_cannot_be_understood_is_told_with_its_line() {
        let wrong = |text: &str| Scenario::read(text).unwrap_err();
        assert!(wrong("; fine\nserver ns9 silent\n").starts_with("line 2: there is no such server"));
        assert!(wrong("server ns1 sulks\n").starts_with("line 1: no such habit"));
        assert!(wrong("in ns1 old new\n").starts_with("line 1: no ` => `"));
        assert!(wrong("hope for the best\n").starts_with("line 1: unknown word"));
        let read = Scenario::read("fires a\nalso b\nexpect c\nharbor init x\nserver ns1 silent lame\n").unwrap();
        assert_eq!((read.fires.as_deref(), read.also.len(), read.expect.len()), (Some("a"), 1, 1));
        assert!(read.habits["ns1"].silent && read.habits["ns1"].lame && read.harbor == [["init", "x"]]);
    }

    #[test]
    fn a_change_that_changes_nothing_is_an_error() {
        let scenario = Scenario::read("in ns1 no such text => another\n").unwrap();
        let error = scenario.zones("ns1", &|text: &str| text.to_string()).unwrap_err();
        assert_eq!(error, "`no such text` is in no zone of ns1");
        let plain = Scenario::default().zones("ns2", &|text: &str| text.to_string()).unwrap();
        assert_eq!(plain.iter().map(|(origin, _)| origin.as_str()).collect::<Vec<_>>(), ["gullrock.example."]);
    }

    #[test]
    fn times_of_signatures_are_filled_in() {
        let now = "2026-11-23T07:00:00Z".parse().unwrap();
        assert_eq!(fill_times("{+10d} {-36h} {ns1}", now), "20261203070000 20261121190000 ns1");
        assert_eq!(fill_times("no braces", now), "no braces");
    }
}

//! `--watch`: asks the authoritative servers of a zone until all of them answer with a change.

use std::net::SocketAddr;
use std::time::{Duration, Instant};

use brightharbor_core::delegation::{Outcome, Question};
use brightharbor_core::name::DnsName;
use brightharbor_core::zone::Zone;
use brightharbor_core::zone::{AlterRequest, show_seconds};
use brightharbor_io::dns::{ask, walk_within};
use brightharbor_io::harbor::Harbor;
use brightharbor_io::survey::brief;
use clap::Args;
use serde_json::{Value, json};

use crate::duration::parse_duration;
use crate::error::Error;
use crate::run::Context;
use crate::show::human::Page;

/// A walk to the servers beside which everything else waits.
const LONGEST_WALK: Duration = Duration::from_secs(10);
/// The delegation may change while we wait.
const WALK_AGAIN: Duration = Duration::from_secs(60);
const SHORTEST_PAUSE: Duration = Duration::from_millis(250);
const LONGEST_PAUSE: Duration = Duration::from_secs(10);

#[derive(Debug, Args)]
pub struct WatchOption {
    /// Wait until all authoritative servers answer with the change, at most this long (seconds, or as 1h30m).
    #[arg(long, value_name = "DURATION", num_args = 0..=1, default_missing_value = "10m")]
    watch: Option<String>,
}

impl WatchOption {
    pub fn patience(&self) -> Result<Option<Duration>, Error> {
        let read = |text: &String| parse_duration(text, "give seconds, or as 1h30m");
        self.watch.as_ref().map(read).transpose()
    }
}

/// What was seen in the end.
pub struct Watched {
    servers: Vec<WatchedServer>,
    waited: Duration,
}

struct WatchedServer {
    name: DnsName,
    address: SocketAddr,
    /// What it did instead of answering with the change.
    problem: Option<String>,
}

/// Watches until every authoritative server has the change, or the patience is over.
pub async fn watch(
    context: &Context,
    harbor: &Harbor,
    zone: &Zone,
    request: &AlterRequest,
    patience: Duration,
) -> Watched {
    let started = Instant::now();
    let mut pause = SHORTEST_PAUSE;
    let mut walked: Option<Instant> = None;
    let mut servers: Vec<WatchedServer> = Vec::new();
    loop {
        if walked.is_none_or(|at| at.elapsed() > WALK_AGAIN) {
            context.progress.doing("asking who serves the zone");
            let picture = walk_within(&brief(&harbor.settings, &zone.name, &[]), LONGEST_WALK).await;
            let server = |(seen, server): (
                &brightharbor_core::delegation::NameserverSeen,
                &brightharbor_core::delegation::ServerSeen,
            )| {
                WatchedServer { name: seen.name.clone(), address: server.address, problem: None }
            };
            servers = picture.servers().map(server).collect();
            walked = Some(Instant::now());
        }
        for server in &mut servers {
            server.problem = look(server.address, request).await.err();
        }
        let watched = Watched { servers, waited: started.elapsed() };
        if watched.everywhere() || started.elapsed() >= patience {
            return watched;
        }
        let missing = watched.servers.iter().filter(|server| server.problem.is_some()).count();
        let all = watched.servers.len();
        context.progress.doing(&format!("{missing} of {all} authoritative servers do not have it yet"));
        servers = watched.servers;
        tokio::time::sleep(pause.min(patience.saturating_sub(started.elapsed()))).await;
        pause = (pause * 2).min(LONGEST_PAUSE);
    }
}

async fn look(address: SocketAddr, request: &AlterRequest) -> Result<(), String> {
    let question = Question::authoritative(address, &request.owner, request.record_type);
    match ask(&question).await.outcome {
        Outcome::Reply(reply) if !reply.authoritative => {
            Err(format!("answered {} without authority", reply.rcode_word()))
        }
        Outcome::Reply(reply) if request.is_seen_in(&reply.answer) => Ok(()),
        Outcome::Reply(_) => Err("does not have it".into()),
        other => Err(other.in_words()),
    }
}

impl Watched {
    pub fn everywhere(&self) -> bool {
        !self.servers.is_empty() && self.servers.iter().all(|server| server.problem.is_none())
    }

    /// Who does not have it, if anybody.
    pub fn problem(&self) -> Option<String> {
        if self.servers.is_empty() {
            return Some("no authoritative server was found".into());
        }
        let missing = self.servers.iter().find_map(|server| Some((server, server.problem.as_ref()?)));
        missing.map(|(server, problem)| format!("{} ({}) {problem}", server.name.bare(), server.address.ip()))
    }

    pub fn human(&self, page: &mut Page) {
        let after = show_seconds(self.waited.as_secs());
        if self.everywhere() {
            let count = self.servers.len();
            return page.hanging("", &format!("Seen at all authoritative servers ({count}) after {after}."));
        }
        if self.servers.is_empty() {
            return page.hanging("", "No authoritative server was found: see `brightharbor delegation check`.");
        }
        page.hanging("", &format!("Not seen everywhere after {after}:"));
        for server in self.servers.iter().filter(|server| server.problem.is_some()) {
            let problem = server.problem.as_deref().unwrap_or_default();
            page.hanging("  ", &format!("{} ({}) {problem}", server.name.bare(), server.address.ip()));
        }
    }

    pub fn json(&self) -> Value {
        let server = |server: &WatchedServer| {
            json!({
                "name": server.name.bare(),
                "address": server.address.to_string(),
                "seen": server.problem.is_none(),
                "problem": server.problem,
            })
        };
        json!({
            "everywhere": self.everywhere(),
            "waited_seconds": self.waited.as_secs(),
            "servers": self.servers.iter().map(server).collect::<Vec<_>>(),
        })
    }
}

//! Asks the authoritative servers of a zone until all of them answer with a change.

use std::net::SocketAddr;
use std::time::{Duration, Instant};

use brightharbor_core::delegation::{Outcome, Question};
use brightharbor_core::harbor::Settings;
use brightharbor_core::name::{DnsName, Hostname};
use brightharbor_core::zone::AlterRequest;

use crate::carry_out::Event;
use crate::dns::{ask, walk_within};
use crate::survey::brief;

/// A walk to the servers beside which everything else waits.
const LONGEST_WALK: Duration = Duration::from_secs(10);
/// The delegation may change while we wait.
const WALK_AGAIN: Duration = Duration::from_secs(60);
const SHORTEST_PAUSE: Duration = Duration::from_millis(250);
const LONGEST_PAUSE: Duration = Duration::from_secs(10);

/// What was seen in the end.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Watched {
    pub servers: Vec<WatchedServer>,
    pub waited: Duration,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WatchedServer {
    pub name: DnsName,
    pub address: SocketAddr,
    /// What it did instead of answering with the change, in words.
    pub problem: Option<String>,
}

impl Watched {
    pub fn everywhere(&self) -> bool {
        !self.servers.is_empty() && self.servers.iter().all(|server| server.problem.is_none())
    }

    /// Who does not have it, if anybody, in words.
    pub fn problem(&self) -> Option<String> {
        if self.servers.is_empty() {
            return Some("no authoritative server was found".into());
        }
        let missing = self.servers.iter().find_map(|server| Some((server, server.problem.as_ref()?)));
        missing.map(|(server, problem)| format!("{} ({}) {problem}", server.name.bare(), server.address.ip()))
    }
}

/// Watches until every authoritative server has the change, or the patience is over.
pub async fn watch(
    settings: &Settings,
    zone: &Hostname,
    request: &AlterRequest,
    patience: Duration,
    tell: &dyn Fn(Event),
) -> Watched {
    let started = Instant::now();
    let mut pause = SHORTEST_PAUSE;
    let mut walked: Option<Instant> = None;
    let mut servers: Vec<WatchedServer> = Vec::new();
    loop {
        if walked.is_none_or(|at| at.elapsed() > WALK_AGAIN) {
            tell(Event::AskingWhoServes(zone.clone()));
            let picture = walk_within(&brief(settings, zone, &[]), LONGEST_WALK).await;
            let found = picture.servers();
            servers = found
                .map(|(seen, server)| WatchedServer { name: seen.name.clone(), address: server.address, problem: None })
                .collect();
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
        tell(Event::NotEverywhere { missing, of: watched.servers.len() });
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

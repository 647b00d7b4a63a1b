//! Walks for many domains at once: what lies above them is asked once for all, sockets and connections are shared, and
//! no server is asked more often than its bound.

use std::net::SocketAddr;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use brightharbor_core::delegation::{
    Brief, Cuts, Observation, Observations, Outcome, Picture, Question, Step, Transport, next_questions,
};
use brightharbor_core::name::DnsName;
use futures_util::future::join_all;
use tokio::sync::{OnceCell, Semaphore};

use super::Table;
use super::ask;
use super::datagrams::{Datagrams, FirstTry};
use super::pace::Pace;
use super::pipeline::Pipelines;
use crate::clock;

/// A walk that takes longer is judged by what has been seen.
const LONGEST_WALK: Duration = Duration::from_secs(60);
/// Cuts that are remembered for the other domains.
const MOST_CUTS: usize = 1_000;
/// Questions on the way at once, over all domains.
const MOST_IN_FLIGHT: usize = 400;

/// Questions in a row without an answer, before a server gets one try alone.
const MOST_FAILURES: u32 = 8;

/// Asks for many walks.
pub struct Walker {
    datagrams: Datagrams,
    pipelines: Pipelines,
    pace: Pace,
    gate: Semaphore,
    /// What was asked about names outside the domains: nameservers and the zones above.
    shared: Mutex<Table<Question, Arc<OnceCell<Observation>>>>,
    cuts: Mutex<Arc<Cuts>>,
    /// How often in a row a server gave no answer over a transport.
    failures: Mutex<Table<(SocketAddr, Transport), u32>>,
    asked: std::sync::atomic::AtomicUsize,
}

fn seen(question: Question, outcome: Outcome, started: Instant) -> Observation {
    let elapsed_ms = started.elapsed().as_millis().min(u128::from(u32::MAX)) as u32;
    Observation { question, outcome, at: clock::now(), elapsed_ms }
}

/// One domain's walk, ended.
pub struct Walked {
    pub brief: Brief,
    pub seen: Observations,
    pub picture: Picture,
}

impl Walker {
    /// `per_second` bounds the questions to one server; 0: no bound.
    pub async fn new(per_second: u32) -> Self {
        Self {
            datagrams: Datagrams::open().await,
            pipelines: Pipelines::default(),
            pace: Pace::new(per_second),
            gate: Semaphore::new(MOST_IN_FLIGHT),
            shared: Mutex::default(),
            cuts: Mutex::default(),
            failures: Mutex::default(),
            asked: 0.into(),
        }
    }

    /// The questions that were really sent so far, retries not counted.
    pub fn asked(&self) -> usize {
        self.asked.load(std::sync::atomic::Ordering::Relaxed)
    }

    /// Walks for one domain.
    pub async fn walk(&self, mut brief: Brief) -> Walked {
        brief.cuts = self.cuts.lock().map(|cuts| Arc::clone(&cuts)).unwrap_or_default();
        let mut seen = Observations::default();
        let started = Instant::now();
        loop {
            let questions = match next_questions(&brief, &seen) {
                Step::Whole(picture) => {
                    self.remember(&picture);
                    return Walked { brief, seen, picture: *picture };
                }
                Step::Ask(questions) => questions,
            };
            let in_time = started.elapsed() < LONGEST_WALK;
            let observations =
                join_all(questions.into_iter().map(|question| self.observe(question, &brief.domain, in_time)));
            observations.await.into_iter().for_each(|observation| seen.add(observation));
        }
    }

    /// The servers of zones above, for the next domains.
    fn remember(&self, picture: &Picture) {
        let Ok(mut cuts) = self.cuts.lock() else { return };
        let new = |zone: &DnsName| !zone.is_within(&picture.domain) && !cuts.contains_key(zone);
        let found: Vec<_> = picture.cuts.iter().filter(|(zone, servers)| !servers.is_empty() && new(zone)).collect();
        if !found.is_empty() && cuts.len() < MOST_CUTS {
            Arc::make_mut(&mut cuts).extend(found.into_iter().map(|(zone, servers)| (zone.clone(), servers.clone())));
        }
    }

    async fn observe(&self, question: Question, domain: &DnsName, in_time: bool) -> Observation {
        if !in_time {
            return Observation { question, outcome: Outcome::Silent, at: clock::now(), elapsed_ms: 0 };
        }
        if question.name.is_within(domain) {
            return self.ask(question).await;
        }
        let cell = match self.shared.lock() {
            Ok(mut shared) => Arc::clone(shared.entry(question.clone()).or_default()),
            Err(_) => Arc::default(),
        };
        cell.get_or_init(|| self.ask(question)).await.clone()
    }

    async fn ask(&self, question: Question) -> Observation {
        self.pace.turn(question.server).await;
        let _permit = self.gate.acquire().await;
        self.asked.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
        let started = Instant::now();
        let first = match question.transport {
            Transport::Udp => match self.datagrams.ask(&question).await {
                FirstTry::Outcome(outcome) => Some(outcome),
                FirstTry::Truncated => {
                    self.pipelines.ask(&Question { transport: Transport::Tcp, ..question.clone() }).await
                }
                FirstTry::Nothing => None,
            },
            Transport::Tcp => self.pipelines.ask(&question).await,
            Transport::PlainUdp => None,
        };
        let observation = match first {
            Some(outcome) => seen(question, outcome, started),
            None if self.has_given_up(&question) => seen(question, Outcome::Silent, started),
            None => {
                // Asking again counts against the bound like any question.
                self.pace.turn(question.server).await;
                // Boxed, as it is rare and large: the futures of a whole batch lie side by side.
                Box::pin(ask(&question)).await
            }
        };
        self.note(&observation);
        observation
    }

    /// A server that was silent so often in a row gets one try for each question, and no more.
    fn has_given_up(&self, question: &Question) -> bool {
        let failures = self.failures.lock().ok();
        failures.is_some_and(|failures| failures.get(&Self::way(question)).is_some_and(|count| *count >= MOST_FAILURES))
    }

    fn note(&self, observation: &Observation) {
        let Ok(mut failures) = self.failures.lock() else { return };
        let count = failures.entry(Self::way(&observation.question)).or_default();
        *count = match observation.outcome {
            Outcome::Silent | Outcome::Unreachable(_) => *count + 1,
            _ => 0,
        };
    }

    fn way(question: &Question) -> (SocketAddr, Transport) {
        (question.server, question.transport)
    }
}

#[cfg(test)]
#[path = "many_tests.rs"]
mod tests;

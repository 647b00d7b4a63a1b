//! Asks many servers for the serials of many zones. Bounded in flight for each server; one that stays silent is not
//! asked any more.

use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use brightharbor_core::name::Hostname;
use brightharbor_core::zone::Serials;
use futures_util::future::join_all;
use tokio::sync::Semaphore;
use tokio::task::JoinSet;
use tokio::time::timeout;

use super::ask_serial;

const IN_FLIGHT: usize = 32;
/// After so many failures without a success a server counts as out of order.
const MOST_FAILURES: usize = 3;

/// Asks every server for every zone that is named with it.
pub async fn ask_serials(questions: Vec<(SocketAddr, Hostname)>) -> Serials {
    let mut gates: HashMap<SocketAddr, (Arc<Semaphore>, Arc<AtomicUsize>)> = HashMap::new();
    let mut tasks = JoinSet::new();
    for (server, zone) in questions {
        let (gate, failures) = gates
            .entry(server)
            .or_insert_with(|| (Arc::new(Semaphore::new(IN_FLIGHT)), Arc::new(AtomicUsize::new(0))))
            .clone();
        tasks.spawn(async move {
            let _permit = gate.acquire().await;
            if failures.load(Ordering::Relaxed) >= MOST_FAILURES {
                return ((server, zone), Err("was silent before and is not asked again".to_string()));
            }
            let answer = ask_serial(server, &zone).await;
            let unheard = answer.as_ref().is_err_and(|words| !words.starts_with("it answers"));
            if unheard {
                failures.fetch_add(1, Ordering::Relaxed);
            } else {
                failures.store(0, Ordering::Relaxed);
            }
            ((server, zone), answer.map_err(|words| words.trim_start_matches("it ").to_string()))
        });
    }
    let mut serials = HashMap::new();
    while let Some(done) = tasks.join_next().await {
        if let Ok((question, answer)) = done {
            serials.insert(question, answer);
        }
    }
    serials
}

/// A server of our own answers at once, or is not there.
const PATIENCE: Duration = Duration::from_secs(1);

/// The serials that servers of our own have of a zone, and the servers that were silent.
pub async fn served_serials(servers: &[SocketAddr], zone: &Hostname) -> (Vec<(SocketAddr, u32)>, Vec<SocketAddr>) {
    let asking = servers.iter().map(|server| async { (*server, timeout(PATIENCE, ask_serial(*server, zone)).await) });
    let (mut serials, mut silent) = (Vec::new(), Vec::new());
    for (server, answer) in join_all(asking).await {
        match answer {
            Err(_) => silent.push(server),
            Ok(answer) => serials.extend(answer.ok().map(|serial| (server, serial))),
        }
    }
    (serials, silent)
}

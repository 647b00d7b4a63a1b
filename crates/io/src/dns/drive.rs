//! Asks what the core's walk wants to know, batch by batch, until the picture is whole. Bounded in flight and time.

use std::sync::Arc;
use std::time::Duration;

use brightharbor_core::delegation::{Brief, Observation, Observations, Outcome, Picture, Step, next_questions};
use tokio::sync::Semaphore;
use tokio::task::JoinSet;
use tokio::time::{Instant, timeout_at};

use super::ask;
use crate::clock;

const MOST_IN_FLIGHT: usize = 64;
/// A walk that takes longer is judged by what has been seen.
const LONGEST_WALK: Duration = Duration::from_secs(40);

/// Walks from the root to every nameserver of the domain.
pub async fn walk(brief: &Brief) -> Picture {
    walk_within(brief, LONGEST_WALK).await
}

/// The same with another bound, for a look beside something else.
pub async fn walk_within(brief: &Brief, longest: Duration) -> Picture {
    let mut seen = Observations::default();
    let gate = Arc::new(Semaphore::new(MOST_IN_FLIGHT));
    let deadline = Instant::now() + longest;
    loop {
        let questions = match next_questions(brief, &seen) {
            Step::Whole(picture) => return *picture,
            Step::Ask(questions) => questions,
        };
        let mut asked = JoinSet::new();
        for question in &questions {
            let (question, gate) = (question.clone(), Arc::clone(&gate));
            asked.spawn(async move {
                let _permit = gate.acquire_owned().await;
                ask(&question).await
            });
        }
        while let Ok(Some(observation)) = timeout_at(deadline, asked.join_next()).await {
            if let Ok(observation) = observation {
                seen.add(observation);
            }
        }
        // What got no answer before the deadline counts as silence, so that the walk always ends.
        for question in questions {
            if seen.get(&question).is_none() {
                seen.add(Observation { question, outcome: Outcome::Silent, at: clock::now(), elapsed_ms: 0 });
            }
        }
    }
}

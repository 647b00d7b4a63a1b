//! What could not be done yet, kept for `tend`: the reason, and the time before which trying again is pointless.

use brightharbor_core::acme::Refusal;
use brightharbor_core::certificate::Waiting;
use brightharbor_core::change::{ChangeSet, InventoryChange};
use brightharbor_core::name::Hostname;
use brightharbor_core::survey::{LinkName, LinkState, Survey};
use brightharbor_io::acme::OrderError;
use jiff::{SignedDuration, Timestamp};

use super::{Course, GO_ON};
use crate::error::Error;
use crate::run::{Context, Decision, change};

/// Between two tries of `tend` after a refusal.
const SHORTEST_PAUSE: SignedDuration = SignedDuration::from_mins(10);
const LONGEST_PAUSE: SignedDuration = SignedDuration::from_hours(24);

/// A site whose order came to nothing, or left names out.
pub struct Refused {
    pub site: Hostname,
    pub reason: String,
    /// A time that somebody has named.
    pub not_before: Option<Timestamp>,
}

impl Refused {
    /// For a site that is served, but not with all its names: the CA has refused some.
    pub fn partly(course: &Course<'_>) -> Option<Self> {
        let by_ca = course.left_out.get(course.left_at_look..).unwrap_or_default();
        if by_ca.is_empty() || !course.is_served() {
            return None;
        }
        let reason = by_ca.iter().map(|(name, why)| format!("{name}: {why}")).collect::<Vec<_>>().join("; ");
        Some(Self { site: course.site.main().clone(), reason, not_before: course.stale })
    }
}

/// Keeps the reasons. CAs count failed attempts: without a time that somebody has named, the pause grows with the time
/// that it has been tried for.
pub async fn remember_all(context: &Context, refused: Vec<Refused>) -> Result<(), Error> {
    let title = match &refused[..] {
        [] => return Ok(()),
        [only] => format!("remember to get a certificate for {}", only.site),
        several => format!("remember to get certificates for {} sites", several.len()),
    };
    change(context, &title, &GO_ON, async |harbor, now| {
        let mut set = ChangeSet::new(&title);
        for Refused { site, reason, not_before } in refused {
            // Counted from the first refusal: before it, only the links were waited for.
            let refused_before = harbor.store.waiting_of(&site)?.filter(|waiting| !waiting.reason.is_empty());
            let since = refused_before.map_or(now, |waiting| waiting.since);
            let pause = (now.duration_since(since) / 2).clamp(SHORTEST_PAUSE, LONGEST_PAUSE);
            let not_before = not_before.or_else(|| now.checked_add(pause).ok());
            set.inventory(InventoryChange::Await(Waiting { site, since, not_before, reason }));
        }
        Ok(Decision { set, said: vec![] })
    })
    .await?;
    Ok(())
}

/// Until when resolvers may still give an old answer, where one of them was seen to.
pub fn stale_until(surveys: &[Survey]) -> Option<Timestamp> {
    let links = surveys.iter().flat_map(|survey| &survey.links).filter(|link| link.name == LinkName::Resolves);
    links.filter_map(|link| if let LinkState::Waiting(until) = link.state { until } else { None }).max()
}

/// The time that the CA itself has named.
pub fn not_before(error: &OrderError) -> Option<Timestamp> {
    match error {
        OrderError::Refused(refusal) => Refusal::not_before(refusal),
        OrderError::StillAtWork { not_before } => *not_before,
        _ => None,
    }
}

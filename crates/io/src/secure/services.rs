//! Brings certificates to other services than the web server: each by a change of its own, so that one that fails holds up
//! no other.

use brightharbor_core::certificate::{ServiceDue, ServiceProblem, due_for_service, place_service};
use brightharbor_core::name::Hostname;
use jiff::Timestamp;

use super::{GoOn, WorkDoor, WorkError};
use crate::door::change;
use crate::load::service_seen;
use crate::overlay::{Answers, Overlay};

/// What came of bringing a service its certificate.
#[derive(Debug)]
pub struct Brought {
    pub service: String,
    pub hostname: Hostname,
    /// Whether it got another one just now.
    pub new: bool,
    pub problem: Option<BroughtProblem>,
}

/// Why a service got nothing.
#[derive(Debug)]
pub enum BroughtProblem {
    Service(ServiceProblem),
    Failed(WorkError),
}

/// The services of the settings with what is to be done for each; with a name, that one alone.
pub fn services(
    overlay: &Overlay<'_>,
    only: Option<&str>,
    now: Timestamp,
) -> Result<Vec<(String, Hostname, ServiceDue)>, WorkError> {
    let mut all = Vec::new();
    for (name, service) in overlay.settings.services.iter().filter(|(name, _)| only.is_none_or(|only| only == *name)) {
        let due = due_for_service(name, service, &service_seen(overlay, service, now)?);
        all.push((name.clone(), service.hostname.clone(), due));
    }
    Ok(all)
}

/// Looks after the services; with a name, after that one alone.
pub async fn bring(door: &WorkDoor<'_>, only: Option<&str>) -> Result<Vec<Brought>, WorkError> {
    if (door.open)()?.settings.services.is_empty() {
        return Ok(vec![]);
    }
    // What a killed command has left is taken back first: a service may have files that it was never told of.
    change(door, "certificate install", &GoOn, async |_, _| Ok((brightharbor_core::change::Plan::new(""), ()))).await?;
    let harbor = (door.open)()?;
    let answers = Answers::default();
    let due = services(&Overlay::new(&harbor, &answers), only, Timestamp::UNIX_EPOCH)?;
    drop(harbor);
    let mut all = Vec::new();
    for (service, hostname, due) in due {
        let mut brought = Brought { service, hostname, new: false, problem: None };
        match due {
            ServiceDue::Nothing => {}
            ServiceDue::Problem(problem) => brought.problem = Some(BroughtProblem::Service(problem)),
            ServiceDue::Placing(_) => match bring_one(door, &brought.service).await {
                Ok(new) => brought.new = new,
                Err(error) => brought.problem = Some(BroughtProblem::Failed(error)),
            },
        }
        all.push(brought);
    }
    Ok(all)
}

/// Gives whether it was brought: somebody else may have been quicker.
async fn bring_one(door: &WorkDoor<'_>, name: &str) -> Result<bool, WorkError> {
    let title = format!("certificate install --service {name}");
    let (changed, ()) = change(door, &title, &GoOn, async |overlay, now| {
        let due = services(overlay, Some(name), now)?.pop().map_or(ServiceDue::Nothing, |(_, _, due)| due);
        Ok((place_service(name, due), ()))
    })
    .await?;
    Ok(changed.entry.is_some())
}

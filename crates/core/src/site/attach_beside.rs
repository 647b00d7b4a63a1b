//! Attaching beside what others serve on the same web server: what is refused, and what has to be asked.

use std::path::PathBuf;

use super::{AnsweredBefore, AttachLoaded, SiteRefusal};
use crate::change::{Consent, Plan};
use crate::name::Host;
use crate::render::{Clash, ClashKind};

/// A line that somebody else has written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ByHand {
    pub host: Host,
    pub file: PathBuf,
    /// From 1.
    pub line: usize,
}

/// A name that works already would be served by two: which of them answers, the order of files decides.
pub(super) fn refuse_by_hand(found: Option<&ByHand>) -> Result<(), SiteRefusal> {
    found.map_or(Ok(()), |found| Err(SiteRefusal::ByHand(found.clone())))
}

/// Refuses what would never be answered; and asks before the first site here takes the visitors of another one.
pub(super) fn ask_for_listeners(loaded: &AttachLoaded, plan: &mut Plan) -> Result<(), SiteRefusal> {
    let Some((file, Clash { line, port, kind })) = loaded.clash.clone() else { return Ok(()) };
    match kind {
        ClashKind::TakesOurs(address) => Err(SiteRefusal::ListenerTakesOurs { file, line, address, port }),
        ClashKind::LosesTheirs(address) if loaded.is_first => {
            plan.needs_consent(Consent::TakesVisitors { file, line, address, port });
            Ok(())
        }
        ClashKind::LosesTheirs(_) => Ok(()),
    }
}

/// Asks where a server answers for a name already by something that its files do not tell.
pub(crate) fn ask_for_answered(answered: Option<&AnsweredBefore>, plan: &mut Plan) {
    if let Some(before) = answered {
        plan.needs_consent(Consent::TakesOverName(before.clone()));
    }
}

//! What decisions about redirects have to tell.

use super::{Redirect, Source, Target};

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RedirectRemark {
    Added(Redirect),
    /// The target is not written as it was typed.
    TargetWritten {
        typed: String,
        target: Target,
    },
    /// What is left of one: it is for the other of a name and its twin from now on.
    Stays(Redirect),
    /// What is fragile about the way that a visitor takes from now on, in words.
    Risk {
        source: Source,
        risk: String,
    },
    /// `was_permanent`: browsers that were there may keep it.
    Removed {
        source: Source,
        was_permanent: bool,
    },
    /// Its last day is over.
    Ended {
        source: Source,
    },
}

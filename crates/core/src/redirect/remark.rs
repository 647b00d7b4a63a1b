//! What decisions about redirects have to tell.

use super::{Redirect, Source};

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RedirectRemark {
    Added(Redirect),
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

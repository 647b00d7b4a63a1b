//! Where a visitor ends up: redirects followed hop by hop over what has been seen.

mod follow;

pub use follow::{FollowStep, Hop, Landing, LandingEnd, PageSeen, follow};

//! Redirects: the rules of sites ([`Redirect`]), what the model answers to a request ([`answer`]), and where a visitor
//! really ends up, followed hop by hop over what has been seen ([`follow`]).

mod add;
mod answer;
mod decide;
mod follow;
mod remark;
mod rule;

pub use add::{AddRefused, add};
pub use answer::{Answer, Ports, Step, Way, WayEnd, Why, answer, way};
pub use decide::{
    AddRedirects, AddRedirectsLoaded, RedirectRefusal, Sources, StuckRedirect, add_redirects, end_redirects, is_named,
    remove_redirects,
};
pub use follow::{FollowStep, Hop, Landing, LandingEnd, PageSeen, Shows, follow};
pub use remark::RedirectRemark;
pub use rule::{Redirect, RedirectError, Source, Target, check_status};

//! Delegation: who answers for a domain, seen from the root servers down.
//!
//! [`next_questions`] looks at what has been observed so far and says what to ask next, or that the picture is whole;
//! it keeps no state of its own, so that saved observations can be judged again at any time. [`rules`] turn the whole
//! picture into findings. Sockets are in `brightharbor-io`.
//!
//! ```text
//!   brief + observations --next_questions--> Ask(questions) --io asks--> more observations --+
//!        ^                                                                                   |
//!        +-----------------------------------------------------------------------------------+
//!                                  \--> Whole(picture) --rules--> findings
//! ```

mod brief;
mod observation;
mod picture;
mod question;
mod root_hints;
pub mod rules;
mod walk;

pub use brief::Brief;
pub use observation::{Observation, Observations, Outcome, Question, Reply, Transport};
pub use picture::{Address, HostAnswer, NameserverSeen, ParentAnswer, Picture, Registered, ServerSeen, ServerState};
pub use question::{Step, next_questions};
pub use root_hints::ROOT_HINTS;

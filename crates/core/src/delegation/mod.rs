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

mod anchor;
mod arrival;
mod brief;
mod causes;
mod chain;
mod comparison;
mod cut;
mod dnssec;
mod handover;
mod host_answer;
mod observation;
mod picture;
mod probe;
mod question;
mod reach;
mod root_hints;
pub mod rules;
mod saved;
mod signed;
mod verdict;
mod walk;

pub use anchor::{AnchorError, built_in_anchors, read_anchors};
pub use arrival::{Arrival, Has, arrivals};
pub use brief::{Brief, Cuts};
pub use causes::by_cause;
pub use chain::Chain;
pub use comparison::{Compared, compare};
pub use cut::domain_of;
pub use dnssec::{Ds, Flaw, Key, Signature};
pub use handover::{Handover, Host, handover, unready};
pub use observation::{Observation, Observations, Outcome, Question, Reply, Transport};
pub use picture::{
    Address, HostAnswer, NameserverSeen, ParentAnswer, Picture, Probed, Reached, Registered, ServerSeen, ServerState,
};
pub use question::{Step, next_questions, state_of};
pub use reach::{ONE_NETWORK, is_in_place, network};
pub use root_hints::ROOT_HINTS;
pub use saved::{MOST_BYTES, SavedError, SavedWalk};
pub use signed::SetFlaw;
pub use verdict::{REFUSED_BY_VALIDATORS, Verdict};

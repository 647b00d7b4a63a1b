//! Securing a site, as a machine without I/O: from links that hold to a certificate that is served.
//!
//! One [`Course`] is one site on its way. It says by its [`Stage`] what it waits for, and is told what came of it:
//!
//! ```text
//!            begin
//!              |------------- share of another site ----------.
//!              v                                               |
//!          ToLook --- nothing leads here ---> Ended(NotYet)    |
//!              |  \                                            |
//!              |   '- a good one is in place ------.           |
//!              v                                   |           |
//!          ToOrder --- refused ---> Ended(Refused) |           |
//!              |                                   |           |
//!              v                                   v           v
//!          Arrived ------- installed -------> InPlace <--- (the same)
//!                                                  |
//!                      handshake shows another --- | ---> Ended(NotShown)
//!                                                  v
//!                                              Verified
//!                                                  |  http is sent to https, nothing waits any more
//!                                                  v
//!                                              Settled
//! ```
//!
//! A driver in `brightharbor-io` looks, orders, installs, shakes hands and asks: for one site or many, side by side, with
//! one change and one reload for all. `install` and `settle` decide those changes; `remember` keeps what could not be done.

mod course;
mod fallback;
mod outcome;
mod remember;
mod settle;
mod standing;
mod told;

pub use course::{Course, Stage};
pub use fallback::{Unmet, rest_of, steps_in, takes_any_kind};
pub use outcome::{Kept, NotIssued, SecureOutcome, Secured, Shown};
pub use remember::{Refused, Remembered, pause, remember};
pub use settle::{Readied, install_arrived, settle_verified, title};
pub use standing::{Rest, ToOrder};
pub use told::{Arrived, Aside, Issued, Looked, Ordered, Present, Wanted};

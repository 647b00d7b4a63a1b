//! Drives the core's RFC 8555 machine: signs, sends, waits, puts proofs in place and keeps the account and the
//! order's state on disk, so that a killed order goes on with the next run.

mod account_key;
mod caa;
mod errand;
mod external_account;
mod order;
mod order_file;
mod order_lock;
mod proofs;
mod renewal;
mod responder;
mod session;
mod wire;

pub use caa::foresee_forbidden;
pub use errand::{ErrandError, has_account, run_errand};
pub use order::{OrderError, OrderPlan, ProofRecords, order};
pub use order_file::forget_order;
pub use renewal::renewal_window;
pub use responder::Responder;
pub use session::{Session, SessionError, known_account, known_profiles, offered_profiles, open_account_keys};

//! RFC 8555 as a machine without I/O: it says what to send, and takes what comes.
//!
//! ```text
//!   Directory -> Account -> NewOrder -> Authorizations -> Proofs -> Challenges -> Validations
//!                                                                                     |
//!                                 Finished <- Download <- Issuance <- Finalize <------+
//! ```
//!
//! A state is named by what it waits for. The driver in `brightharbor-io` calls [`Machine::next`], does what the
//! [`Step`] says, and gives the answer to [`Machine::received`] (or tells that the proofs are in place, or hands the
//! certificate request over). The machine can be saved between any two calls and goes on where it was; nonces are
//! not saved, a new one is asked for. Time is passed in. Every state has a file in `state/` and a test file in
//! `tests/`.

mod errand;
mod identifier;
mod machine;
mod message;
mod state;
mod tls_alpn;

pub use errand::{Errand, ErrandStep, RevocationReason, Task};
pub use identifier::{Identifier, identifiers};
pub use machine::{Brief, Machine, Step};
pub use message::{Directory, DirectoryMeta, Payload, Problem, Proof, ProofKind, Refusal, Request, Response, Signer};

pub use state::State;
pub use tls_alpn::{PROTOCOL, asked_name, proof_digest, proves};

#[cfg(test)]
mod tests;

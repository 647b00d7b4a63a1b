//! The servers that are driven: their config test, their reload, and the proof that they have taken it.
//!
//! Their files are rendered in the core; here are the processes and the questions.

mod control;
mod detect;
mod dns;
mod include;
mod php;
mod process;
mod serials;
mod staples;
mod web;
mod zone_checks;

pub use detect::{Found, FoundDns, find_servers};
pub use dns::{
    ask_serial, await_newer, await_serials, await_signing, forget_signing, load_zones, tell_of_parent, unload_zones,
};
pub use include::{configuration, includes};
pub use php::{await_pools, reload_pools, test_pools};
pub use process::{is_program, run_bounded, run_with_input};
pub use serials::{ask_serials, served_serials};
pub use staples::can_staple;
pub use web::{MissingModules, SIDE_BY_SIDE, ask_missing_modules, await_fingerprint, reload_web, test_web};
pub use zone_checks::check_zones;

/// Why a server did not do what it was told.
#[derive(Debug, thiserror::Error)]
pub enum ServerError {
    #[error("`{command}` could not be started: {reason}")]
    Start { command: String, reason: String },
    #[error("`{command}` was still running after {seconds} s")]
    Hung { command: String, seconds: u64 },
    #[error("`{command}` failed: {output}")]
    Refused { command: String, output: String },
    #[error("the stand-in at {address} says: {answer}")]
    StandIn { address: std::net::SocketAddr, answer: String },
    #[error("PHP {version} does not listen at {socket} after its reload: {reason}")]
    PoolSilent { version: String, socket: std::path::PathBuf, reason: String },
    #[error("harbor.toml names no {0}")]
    NotSet(&'static str),
    #[error("the DNS server at {address} {state} {zone} after {seconds} s; its own log says why")]
    NotSigned { address: std::net::SocketAddr, zone: String, state: &'static str, seconds: u64 },
    #[error("the DNS server at {address} does not answer for {zone} with serial {serial} after {seconds} s: {last}")]
    NotLoaded { address: std::net::SocketAddr, zone: String, serial: u32, seconds: u64, last: String },
}

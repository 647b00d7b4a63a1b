//! The decisions of Bright Harbor: text and observations in, decisions and findings out.
//!
//! Nothing here opens a file or a socket, reads a clock or the environment, or prints; `clippy.toml` beside this
//! crate's manifest forbids it by machine. The neighbours are `brightharbor-io`, which touches the world, and the
//! command-line crate, which prints.

pub mod account;
pub mod acme;
pub mod address;
pub mod certificate;
pub mod change;
pub mod delegation;
pub mod explain;
pub mod finding;
pub mod harbor;
pub mod listing;
pub mod name;
pub mod nameserver;
pub mod notice;
pub mod redirect;
pub mod render;
pub mod site;
pub mod survey;
pub mod zone;

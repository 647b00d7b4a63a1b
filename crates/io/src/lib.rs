//! The hands of Bright Harbor: sockets, files, processes and the inventory. It touches the world and decides nothing.
//!
//! The decisions come from `brightharbor-core` as change sets and questions; the command-line crate calls both.

pub mod acme;
pub mod carry_out;
pub mod clock;
mod decided;
pub mod dns;
pub mod door;
pub mod harbor;
pub mod host_look;
pub mod http;
pub mod install;
pub mod keys;
pub mod load;
pub mod look;
pub mod master_file;
pub mod notify;
pub mod overlay;
pub mod probe;
pub mod secure;
pub mod server;
pub mod store;
pub mod survey;
mod tls_words;
pub mod trust;
pub mod watch;
pub mod zones;

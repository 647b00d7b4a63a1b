//! A miniature internet on loopback: root and registry, nameservers, a resolver, a registrar, a web server and a
//! CA, in one process, without privileges.
//!
//! It must not use what it is there to test: no `core::acme`, no `io::dns`. From the core it takes basic types alone.
//! The zones of the cast are text files in `scenarios/`.

mod ca;
mod control;
mod dns;
mod family;
mod passing;
mod registrar;
mod scenario;
mod web;
mod world;

pub use family::{Family, V6_OF_INTERFACE, V6_ROUTE};
pub use registrar::Registrar;
pub use scenario::{Delegated, SCENARIOS, Scenario, trust_anchor};
pub use world::{Cast, World, WorldError};

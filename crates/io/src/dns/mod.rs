//! DNS over the wire: the codec between `domain`'s messages and the core's observations, the client that asks, and
//! the drive that asks what the core's walk wants to know.

mod client;
mod codec;
mod drive;
mod resolver;

pub use client::ask;
pub use drive::{walk, walk_within};
pub use resolver::{resolve_all, system_resolvers};

//! DNS over the wire: the codec between `domain`'s messages and the core's observations, the client that asks, and
//! the drive that asks what the core's walk wants to know.

mod client;
mod codec;
mod datagrams;
mod drive;
mod key_file;
mod many;
mod notify;
mod pace;
mod pipeline;
mod resolver;
mod silence;
mod stream;
mod transfer;
mod update;

/// A table that is looked into for every datagram. The hash is seeded anew for each.
type Table<K, V> = std::collections::HashMap<K, V, foldhash::fast::RandomState>;

pub use client::ask;
pub use drive::{walk, walk_within};
pub use key_file::{KeyFileError, TransactionKey};
pub use many::{Walked, Walker};
pub use notify::{Notification, notify, notify_all};
pub use resolver::{resolve_all, system_resolvers};
pub use stream::{RequestError, RequestProblem};
pub use transfer::transfer;
pub use update::{send_update, takes_updates};

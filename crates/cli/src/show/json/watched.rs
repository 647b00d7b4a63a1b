//! How far a change has come to the authoritative servers.

use brightharbor_io::watch::{Watched, WatchedServer};
use serde::Serialize;

#[derive(Serialize)]
pub struct WatchedDocument {
    everywhere: bool,
    waited_seconds: u64,
    servers: Vec<ServerDocument>,
}

#[derive(Serialize)]
struct ServerDocument {
    name: String,
    address: String,
    seen: bool,
    problem: Option<String>,
}

impl From<&Watched> for WatchedDocument {
    fn from(watched: &Watched) -> Self {
        let server = |server: &WatchedServer| ServerDocument {
            name: server.name.bare(),
            address: server.address.to_string(),
            seen: server.problem.is_none(),
            problem: server.problem.clone(),
        };
        Self {
            everywhere: watched.everywhere(),
            waited_seconds: watched.waited.as_secs(),
            servers: watched.servers.iter().map(server).collect(),
        }
    }
}

//! DNS stand-ins: zones as data, a server that answers from them, and a caching resolver.

pub(crate) mod resolver;
pub(crate) mod server;
pub(crate) mod signing;
pub(crate) mod zone_data;

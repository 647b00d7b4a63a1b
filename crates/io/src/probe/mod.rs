//! Looks at web servers as a visitor: the fingerprint over http, the TLS handshake, and the way from page to page.

mod page;
mod tls;

pub use page::{fetch_fingerprint, land};
pub use tls::shake_hands;

//! Looks at web servers as a visitor: the fingerprint over http, the TLS handshake, and the way from page to page.

mod before;
mod greeted;
mod issuer;
mod page;
mod revocation;
mod served;
mod staple;
mod start_tls;
mod tls;
mod tls_proof;
mod witness;

pub use before::{hear_before, hear_strangers};
pub use issuer::fetch_issuer;
pub use page::{fetch_fingerprint, fetch_proof, fetch_text, land, takes_connections};
pub use revocation::RevocationLists;
pub use served::look_at_served;
pub use staple::{fetch_staple, staple_in_place, staple_of_new};
pub use tls::{shake_hands, shake_hands_asking};
pub use tls_proof::fetch_tls_proof;

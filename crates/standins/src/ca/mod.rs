//! A CA that speaks RFC 8555 from the server's side, written from the RFC alone and sharing nothing with the client:
//! it checks nonces, signatures and URLs, validates http-01 through its own look-ups, and signs.

mod accounts;
mod after_issue;
mod authority;
mod dns01;
mod http01;
mod jws;
mod objects;
mod service;

pub(crate) use authority::Authority;
pub(crate) use service::{CaService, Lost};

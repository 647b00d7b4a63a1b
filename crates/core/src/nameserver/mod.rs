//! Nameserver sets: names that domains are delegated to together.

mod set;

pub use set::{Member, MemberError, align_addresses, set_of, weaknesses};

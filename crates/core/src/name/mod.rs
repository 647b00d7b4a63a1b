//! Names: what a visitor types ([`Hostname`]), what the DNS holds ([`DnsName`]), and where the registrable part
//! of a name begins ([`registrable_domain`]). No look-ups: `delegation` asks the world about names.

mod dns_name;
mod hostname;
mod pasted;
mod registrable;

pub use dns_name::{DnsName, DnsNameError};
pub use hostname::{Hostname, HostnameError, name_alone, names_alone};
pub use pasted::{Pasted, near_misses, parse_pasted};
pub use registrable::{is_registrable, registrable_domain};

//! Names: what a visitor types ([`Hostname`]), what a site is asked for by ([`Host`]), what the DNS holds ([`DnsName`]), and where the registrable part
//! of a name begins ([`registrable_domain`]). No look-ups: `delegation` asks the world about names.

mod dns_name;
mod host;
mod hostname;
mod pasted;
mod registrable;

pub use dns_name::{DnsName, DnsNameError};
pub use host::{Host, HostAddress, names_of};
pub use hostname::{Hostname, HostnameError};
pub use pasted::{Pasted, near_misses, parse_pasted};
pub use registrable::{by_domain, domain_above, ends_in_known_suffix, is_registrable, registrable_domain};

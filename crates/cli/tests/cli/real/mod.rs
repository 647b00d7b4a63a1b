//! The same voyage on real servers: BIND, nginx or Apache httpd, and the test CA of the `pebble` package, each with
//! its own configuration in a temporary folder, on loopback addresses and unprivileged ports.

mod alias_domains;
mod already_there;
mod authority;
mod beside_others;
mod both_families;
mod ca;
mod cas;
mod demanded;
mod fronts;
mod internet;
mod ipv6;
mod losing_proxy;
mod many;
mod many_zones;
mod monitor;
pub mod nameservers;
mod nothing_worse;
mod order_rate;
mod publishing;
mod quay;
mod record_lines;
mod revoked;
mod serials;
pub mod servers;
mod signatures;
mod signing;
mod stapled;
mod start_tls;
mod taken_over;
mod tls;
mod tls_floor;
mod unknown_hosts;
mod updates;
mod voyage;
mod webs;
mod zones;

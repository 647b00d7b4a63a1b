//! A zone file that goes back after a server may have loaded the newer one: with its records as they were, under a higher
//! serial. A primary that goes back to an old serial is never heard again by secondaries that have the newer one, and when
//! its serial comes to that number once more they keep other records for good (RFC 1982, RFC 1996 section 4.7).

use std::net::SocketAddr;
use std::path::{Path, PathBuf};

use brightharbor_core::change::Needs;
use brightharbor_core::harbor::{DnsServer, Layout, Settings};
use brightharbor_core::name::Hostname;
use brightharbor_core::zone::{Document, own_servers, serial_date};

use crate::clock;
use crate::master_file::{Includes, parse_file};
use crate::server::served_serials;

/// The zones whose files go back raised: those that servers were told of.
pub(super) struct Raised<'a> {
    settings: &'a Settings,
    zones: Vec<(PathBuf, Hostname)>,
}

impl<'a> Raised<'a> {
    /// All zones of the change, if a DNS server may have heard of it.
    pub(super) fn of(settings: &'a Settings, layout: &Layout, needs: &Needs, told: bool) -> Self {
        let zones = match told && settings.dns.server != DnsServer::None {
            true => needs.all_zones().map(|zone| (layout.zone_file(zone), zone.clone())).collect(),
            false => vec![],
        };
        Self { settings, zones }
    }

    /// What goes back to `path`, where `written` stands now. What cannot be read as a zone goes back as it was.
    pub(super) async fn content(&self, path: &Path, written: Vec<u8>, kept: Vec<u8>) -> Vec<u8> {
        let Some((_, zone)) = self.zones.iter().find(|(file, _)| file == path) else { return kept };
        let read = |bytes: Vec<u8>| -> Option<Document> {
            let includes = Includes::OfServer(self.settings.dns.directory.as_deref());
            parse_file(bytes, &zone.dns_name(), includes).ok()
        };
        let (Some(written), Some(before)) = (read(written), read(kept.clone())) else { return kept };
        let servers: Vec<SocketAddr> = own_servers(self.settings).iter().map(|one| one.address).collect();
        let (served, _) = served_serials(&servers, zone).await;
        let served: Vec<u32> = served.into_iter().map(|(_, serial)| serial).collect();
        let raised = before.put_back_after(&written, &served, serial_date(clock::now()));
        raised.map_or(kept, |raised| raised.source().to_vec())
    }
}

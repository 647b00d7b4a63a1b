//! A zone file that goes back after a server may have loaded the newer one: with its records as they were, under a higher
//! serial. A primary that goes back to an old serial is never heard again by secondaries that have the newer one, and when
//! its serial comes to that number once more they keep other records for good (RFC 1982, RFC 1996 section 4.7).

use std::path::{Path, PathBuf};

use brightharbor_core::change::Needs;
use brightharbor_core::harbor::{DnsServer, Layout, Settings};
use brightharbor_core::name::Hostname;
use brightharbor_core::zone::{Document, serial_date, serial_is_newer};

use crate::clock;
use crate::master_file::{Includes, parse_file};
use crate::server::{newest_served, own_servers};

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
        let mut newest = written.soa().serial;
        if let (Some(served), _) = newest_served(&own_servers(self.settings), zone).await
            && serial_is_newer(served, newest)
        {
            newest = served;
        }
        if !serial_is_newer(newest, before.soa().serial) {
            return kept;
        }
        let raised = before.raised_above(newest, serial_date(clock::now()));
        raised.map_or(kept, |raised| raised.source().to_vec())
    }
}

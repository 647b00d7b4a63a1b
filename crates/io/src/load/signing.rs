//! What is seen of a zone that the DNS server signs: its keys there, and its DS records at the parent.

use std::net::SocketAddr;

use brightharbor_core::delegation::{Ds, Outcome, Question, Registered};
use brightharbor_core::harbor::{DnsServer, Settings};
use brightharbor_core::name::{DnsName, Hostname};
use brightharbor_core::zone::{KeyAnswers, ParentDs, Record, RecordType, SigningLoaded, Zone};

use super::LoadError;
use crate::dns::{ask, walk};
use crate::overlay::Overlay;
use crate::survey::brief;

/// Loads for switching it on or off.
pub async fn signing(overlay: &Overlay<'_>, zone: &Zone) -> Result<SigningLoaded, LoadError> {
    let (layout, dns) = (&overlay.layout, &overlay.settings.dns);
    let kept = overlay.read_zone(zone).await?;
    let serials = overlay.served_serials(&zone.name).await?;
    let asking = ds_at_parent(&overlay.settings, &zone.name);
    Ok(SigningLoaded {
        kept,
        zone_list: overlay.file(&layout.zone_list_of(dns.server, &zone.name))?,
        journal: match dns.server {
            DnsServer::Bind => overlay.file(&layout.zone_journal(&zone.name))?,
            _ => None,
        },
        served: serials.iter().find(|(server, _)| Some(*server) == dns.address).map(|(_, serial)| *serial),
        at_parent: overlay.ask(&format!("the DS records of {} at its parent", zone.name), asking).await?,
    })
}

/// The DS records that the parent has, as all of its servers that answer say; or why that is not known.
pub async fn ds_at_parent(settings: &Settings, domain: &Hostname) -> Result<ParentDs, String> {
    let picture = walk(&brief(settings, domain, &[])).await;
    if let Registered::Unknown(why) = picture.registered {
        return Err(why);
    }
    let name = domain.dns_name();
    let (mut at_parent, mut silent) = (ParentDs::default(), None);
    for server in &picture.parent_servers {
        match answered(*server, &name, RecordType::DS).await {
            Ok(records) => {
                for record in records.iter().filter(|record| record.owner == name) {
                    let Some(ds) = Ds::of(record) else { continue };
                    at_parent.ttl = at_parent.ttl.max(record.ttl);
                    if !at_parent.ds.contains(&ds) {
                        at_parent.ds.push(ds);
                    }
                }
            }
            Err(why) => silent = Some(format!("{server} {why}")),
        }
    }
    // One that is silent may be the one that still has a DS.
    match silent {
        Some(why) if at_parent.ds.is_empty() => Err(why),
        _ => Ok(at_parent),
    }
}

/// What the server answers about the keys of a zone.
pub async fn key_answers(server: SocketAddr, domain: &DnsName) -> Result<KeyAnswers, String> {
    Ok(KeyAnswers {
        keys: answered(server, domain, RecordType::DNSKEY).await?,
        soa: answered(server, domain, RecordType::SOA).await?,
        cds: answered(server, domain, RecordType::CDS).await?,
    })
}

async fn answered(server: SocketAddr, name: &DnsName, record_type: RecordType) -> Result<Vec<Record>, String> {
    match ask(&Question::authoritative(server, name, record_type)).await.outcome {
        Outcome::Reply(reply) => Ok(reply.answer),
        other => Err(other.in_words()),
    }
}

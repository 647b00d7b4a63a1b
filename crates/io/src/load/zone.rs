//! What decisions about whole zones rest on.

use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, SocketAddr};

use brightharbor_core::account::AccountName;
use brightharbor_core::delegation::{Outcome, Question, Registered};
use brightharbor_core::harbor::{Ca, NameserverSet};
use brightharbor_core::name::{DnsName, Hostname, is_registrable, names_of};
use brightharbor_core::nameserver;
use brightharbor_core::render::{CatalogStanza, DefinedZone, Publication, PublishedTo, ZoneKind};
use brightharbor_core::zone::rules::Surroundings;
use brightharbor_core::zone::{
    ChangeZone, ChangeZoneLoaded, CreateZone, CreateZoneLoaded, Document, FormerWish, Loadable, Mail, Movable, Pattern,
    PatternError, PublishLoaded, ReadZone, Realignable, Record, RecordType, TemplateName, Zone, ZoneDesign, ZoneHome,
    ZoneOrigin, ZoneRefusal, design_for, newest_serial, parts, serial_is_newer, serves_all_of, updated_at,
};

use futures_util::{StreamExt, stream};

use super::former::{ZoneCompared, compare_zone, former_zone};
use super::{LoadError, new_zone_files};
use crate::dns::TransactionKey;
use crate::dns::{ask, walk};
use crate::harbor::Harbor;
use crate::install::link_target;
use crate::overlay::Overlay;
use crate::store::StoreError;
use crate::survey::brief;

/// Loads for a new zone; `content` is the master file that it is taken from, if there is one.
pub async fn create_zone(
    overlay: &Overlay<'_>,
    request: &CreateZone,
    home: ZoneHome,
    primary: Option<&str>,
    content: Option<Document>,
) -> Result<CreateZoneLoaded, LoadError> {
    let owner = overlay.account(&request.account)?;
    let design = design_for(request, owner.as_ref());
    let known = overlay.zone(&request.domain)?;
    let above = overlay.zone_holding(&request.domain.dns_name())?.filter(|zone| zone.home != ZoneHome::Elsewhere);
    let is_cut = is_registrable(&request.domain)
        || delegates(overlay, above.as_ref(), &request.domain).await
        || is_delegated(overlay, &request.domain).await?;
    let above = above.map(|zone| zone.name);
    let origin = match home {
        ZoneHome::Elsewhere => ZoneOrigin::Elsewhere,
        ZoneHome::Here => {
            let mut files = Box::new(new_zone_files(overlay, &request.domain, &design.template).await?);
            if content.is_none() && known.is_none() {
                files.former = former_zone(overlay, &request.domain, &design.former).await?;
            }
            ZoneOrigin::Here { content: content.map(Box::new), files }
        }
        ZoneHome::Remote => {
            let zone = Zone {
                primary: primary.map(String::from),
                nameserver_set: design.nameserver_set,
                ..Zone::new(request.domain.clone(), request.account.clone(), ZoneHome::Remote)
            };
            ZoneOrigin::Remote(Box::new(overlay.read_zone(&zone).await?))
        }
    };
    Ok(CreateZoneLoaded { owner, known, is_cut, above, origin })
}

/// Whether a zone of ours has the cut, be it published or not.
async fn delegates(overlay: &Overlay<'_>, above: Option<&Zone>, name: &Hostname) -> bool {
    let Some(above) = above else { return false };
    let read = overlay.read_zone(above).await;
    read.is_ok_and(|kept| kept.document.cut_above(&name.dns_name()) == Some(name.dns_name()))
}

/// Whether the zone above a name delegates it, as the DNS shows it.
async fn is_delegated(overlay: &Overlay<'_>, name: &Hostname) -> Result<bool, LoadError> {
    let asking = async { walk(&brief(&overlay.settings, name, &[])).await.registered == Registered::Yes };
    Ok(overlay.ask(&format!("whether {name} is delegated"), asking).await?)
}

async fn read(overlay: &Overlay<'_>, zone: &Zone) -> ReadZone {
    overlay.read_zone(zone).await.map_err(|error| error.to_string())
}

/// Zone files beside what is served. Those whose serial servers would take are not compared: they are loaded anyway; nor are
/// any where `compare` does not say so.
pub async fn loadable(overlay: &Overlay<'_>, zones: Vec<Zone>, compare: bool) -> Result<Vec<Loadable>, LoadError> {
    let mut all = Vec::new();
    for zone in zones.into_iter().filter(|zone| zone.home == ZoneHome::Here) {
        let read = read(overlay, &zone).await;
        let serials = overlay.served_serials(&zone.name).await?;
        let served = newest_serial(serials.into_iter().map(|(_, serial)| serial));
        let differs = match (&read, served) {
            (Ok(kept), Some(served)) if compare && !serial_is_newer(kept.document.soa().serial, served) => {
                differs(overlay, &zone, &kept.document).await?
            }
            _ => None,
        };
        all.push(Loadable { zone, read, served, differs });
    }
    Ok(all)
}

/// Whether the server here answers otherwise than the file of a zone says.
async fn differs(overlay: &Overlay<'_>, zone: &Zone, document: &Document) -> Result<Option<bool>, LoadError> {
    let Some(server) = overlay.settings.dns.address else { return Ok(None) };
    let asking = async {
        match compare_zone(overlay, zone, &[server]).await {
            Ok(ZoneCompared::Differs { differences, .. }) if differences.is_empty() => {
                answered_sets(server, document).await.map(|answered| !serves_all_of(document, &answered))
            }
            Ok(ZoneCompared::Differs { .. }) => Some(true),
            _ => None,
        }
    };
    Ok(overlay.ask(&format!("whether {server} serves the file of {}", zone.name), asking).await?)
}

/// A zone of more sets than that is not asked for one by one.
const MOST_SETS: usize = 2_000;
const SETS_AT_ONCE: usize = 16;

/// What a server answers for every set of a zone: at the names themselves, and what stands at and below delegations.
async fn answered_sets(server: SocketAddr, document: &Document) -> Option<Vec<Record>> {
    let sets: BTreeSet<(DnsName, RecordType)> =
        document.records().map(|record| (record.owner.clone(), record.record_type())).collect();
    if sets.len() > MOST_SETS {
        return None;
    }
    let asked = stream::iter(sets).map(|(owner, record_type)| async move {
        match ask(&Question::authoritative(server, &owner, record_type)).await.outcome {
            Outcome::Reply(reply) => {
                let all = reply.answer.into_iter().chain(reply.authority).chain(reply.additional);
                Some(all.filter(|one| one.owner == owner && one.record_type() == record_type).collect::<Vec<_>>())
            }
            _ => None,
        }
    });
    let answers: Vec<Option<Vec<Record>>> = asked.buffer_unordered(SETS_AT_ONCE).collect().await;
    Some(answers.into_iter().collect::<Option<Vec<_>>>()?.concat())
}

/// The zones that are to move, with the sets that they have now; `set_of` knows the sets by name.
pub async fn movable(overlay: &Overlay<'_>, zones: Vec<Zone>) -> Result<Vec<Movable>, LoadError> {
    let mut all = Vec::with_capacity(zones.len());
    for zone in zones {
        let old_set: NameserverSet =
            overlay.settings.nameserver_set(zone.nameserver_set.as_deref()).unwrap_or_default();
        let pattern = zone.pattern.as_deref().map(|key| overlay.store.pattern(key)).transpose()?.flatten();
        let read = read(overlay, &zone).await;
        all.push(Movable { zone, old_set, pattern, read });
    }
    Ok(all)
}

/// Those of the zones whose pattern gives something else today or whose file cannot be read, and how many came from no
/// template.
pub async fn realignable(
    overlay: &Overlay<'_>,
    zones: Vec<Zone>,
) -> Result<Result<(Vec<Realignable>, usize), PatternError>, LoadError> {
    let (mut all, mut without) = (Vec::new(), 0);
    let mut of_today: BTreeMap<(String, Option<String>), Pattern> = BTreeMap::new();
    let mut attached: Option<BTreeMap<Hostname, Vec<Hostname>>> = None;
    for zone in zones {
        let Some(old) = zone.pattern.as_deref().map(|key| overlay.store.pattern(key)).transpose()?.flatten() else {
            without += 1;
            continue;
        };
        let key = (old.key(), zone.nameserver_set.clone());
        let new = match of_today.get(&key) {
            Some(pattern) => pattern.clone(),
            None => match pattern_of_today(overlay, &old, &zone)? {
                Ok(pattern) => {
                    of_today.insert(key, pattern.clone());
                    pattern
                }
                Err(error) => return Ok(Err(error)),
            },
        };
        if new.key() == old.key() {
            // Nothing to do, unless nobody can tell: a file that is gone or broken matches nothing.
            if zone.home == ZoneHome::Here
                && let Err(words) = read(overlay, &zone).await
            {
                all.push(Realignable { zone, old, new, read: Err(words), attached: vec![] });
            }
            continue;
        }
        if attached.is_none() {
            attached = Some(by_zone(overlay)?);
        }
        let names = attached.as_ref().and_then(|all| all.get(&zone.name)).cloned().unwrap_or_default();
        let read = read(overlay, &zone).await;
        all.push(Realignable { zone, old, new, read, attached: names });
    }
    Ok(Ok((all, without)))
}

fn pattern_of_today(
    overlay: &Overlay<'_>,
    old: &Pattern,
    zone: &Zone,
) -> Result<Result<Pattern, PatternError>, LoadError> {
    let design = ZoneDesign {
        template: old.template.clone(),
        mail: old.mail.clone(),
        nameserver_set: zone.nameserver_set.clone(),
        former: FormerWish::Bare,
        without_addresses: old.was_without_addresses(),
    };
    let file = overlay.file(&overlay.layout.zone_template(&design.template))?;
    Ok(design.pattern(file.as_deref(), &overlay.settings))
}

/// The attached hostnames, by the zone that holds them.
fn by_zone(harbor: &Harbor) -> Result<BTreeMap<Hostname, Vec<Hostname>>, StoreError> {
    let zones: BTreeSet<Hostname> = harbor.store.zones()?.into_iter().map(|zone| zone.name).collect();
    let mut all: BTreeMap<Hostname, Vec<Hostname>> = BTreeMap::new();
    for hostname in names_of(&harbor.store.hostnames()?) {
        let holder = std::iter::once(hostname.clone()).chain(hostname.ancestors()).find(|name| zones.contains(name));
        if let Some(zone) = holder {
            all.entry(zone).or_default().push(hostname);
        }
    }
    Ok(all)
}

/// Where the server's own configuration defines a zone. One that cannot be read tells nothing.
fn of_server(overlay: &Overlay<'_>, name: &Hostname) -> Option<DefinedZone> {
    super::server_zones(overlay).ok()?.into_iter().find(|zone| zone.name == name.as_str())
}

/// Who gets the zones, and what stands in the server's list by now.
pub async fn publish(overlay: &Overlay<'_>) -> Result<PublishLoaded, LoadError> {
    let (layout, settings) = (&overlay.layout, &overlay.settings);
    let port = settings.internet.dns_port();
    let mut publication = Publication::default();
    for secondary in &settings.secondaries {
        let key = TransactionKey::read(&secondary.key_file)?.name();
        publication.secondaries.push(PublishedTo { address: secondary.address.socket(port), key });
    }
    let (mut catalog, mut joined) = (None, None);
    if let Some(name) = &settings.dns.catalog {
        let update_key = match updated_at(settings) {
            Some((_, key_file)) => Some(TransactionKey::read(&key_file)?.name()),
            None => None,
        };
        // Nobody's: its zone is in no inventory.
        let account = AccountName::parse("catalog").unwrap_or_else(|_| unreachable!("a constant name"));
        let zone = Zone::new(name.clone(), account, ZoneHome::Here);
        let path = layout.zone_file(name);
        joined = match path.symlink_metadata() {
            Ok(_) => None,
            Err(_) => of_server(overlay, name),
        };
        if let Some(defined) = &joined {
            // A secondary has no records to be changed here, and the decision says so.
            if defined.kind == ZoneKind::Primary && defined.file.is_some() {
                catalog = Some(overlay.read_where_it_is(&zone, defined.file.as_deref()).await?);
            }
        } else {
            if link_target(&path).is_none() {
                publication.catalog = Some(CatalogStanza { name: name.clone(), update_key });
            }
            if overlay.file(&path)?.is_some() {
                catalog = Some(overlay.read_zone(&zone).await?);
            }
        }
    }
    let zones = overlay.store.zones()?.into_iter().filter(|zone| zone.home == ZoneHome::Here);
    let zones: Vec<Zone> = zones.collect();
    let signed = zones.iter().filter_map(|zone| Some((zone.name.clone(), zone.signed_by()?.to_string()))).collect();
    let members: Vec<Hostname> = zones.into_iter().map(|zone| zone.name).collect();
    let index = overlay.file(&layout.zone_index(settings.dns.server))?;
    let mut there = BTreeMap::new();
    for part in parts(&members, settings, layout).into_keys() {
        if let Some(content) = overlay.file(&part)? {
            there.insert(part, content);
        }
    }
    Ok(PublishLoaded { publication, members, signed, catalog, joined, index, parts: there })
}

/// What the rules may know about a zone beside its records.
pub fn surroundings(harbor: &Harbor, zone: &Zone) -> Result<Surroundings, StoreError> {
    let Harbor { settings, store, .. } = harbor;
    let pattern = zone.pattern.as_deref().map(|key| store.pattern(key)).transpose()?.flatten();
    let mail_servers = pattern.and_then(|made| Some(made.mail.servers(&made.mail_servers)?.to_vec()));
    let mut former_addresses: Vec<IpAddr> = store.patterns()?.into_iter().flat_map(|made| made.addresses).collect();
    former_addresses.retain(|address| !settings.host.addresses.contains(address));
    former_addresses.sort();
    former_addresses.dedup();
    let cas: Vec<&Ca> = settings.all_cas().filter(|ca| ca.directory.is_some()).collect();
    // A CA that does not say its names may be one of those that records name.
    let all_known = cas.iter().all(|ca| !ca.caa_identities.is_empty());
    let named = cas.iter().filter(|_| all_known).flat_map(|ca| ca.caa_identities.clone());
    Ok(Surroundings { mail_servers, ca_identities: named.collect(), former_addresses })
}

/// What a zone is to be made by from now on; `None`: as before.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct DesignChange {
    pub template: Option<TemplateName>,
    pub mail: Option<Mail>,
    /// The inner `None` is the set of `[host]`.
    pub nameserver_set: Option<Option<String>>,
}

/// Loads for a change of one zone.
pub async fn change_zone(
    overlay: &Overlay<'_>,
    zone: Zone,
    request: &ChangeZone,
    design: &DesignChange,
) -> Result<Result<ChangeZoneLoaded, ZoneRefusal>, LoadError> {
    let account_known = match &request.account {
        Some(account) => overlay.account(account)?.is_some(),
        None => true,
    };
    let mut attached = Vec::new();
    for name in overlay.store.hostnames_within(&zone.name)? {
        let site = overlay.site_of(&name.clone().into())?;
        attached.extend(site.filter(|site| site.account == zone.account).map(|_| name));
    }
    let remade = match design.template.is_some() || design.mail.is_some() || design.nameserver_set.is_some() {
        false => None,
        true => {
            let old = zone.pattern.as_deref().map(|key| overlay.store.pattern(key)).transpose()?.flatten();
            let Some(old) = old else { return Ok(Err(ZoneRefusal::NoTemplate(zone.name))) };
            let wanted = ZoneDesign {
                template: design.template.clone().unwrap_or_else(|| old.template.clone()),
                mail: design.mail.clone().unwrap_or_else(|| old.mail.clone()),
                nameserver_set: design.nameserver_set.clone().unwrap_or_else(|| zone.nameserver_set.clone()),
                former: FormerWish::Bare,
                without_addresses: old.was_without_addresses(),
            };
            let file = overlay.file(&overlay.layout.zone_template(&wanted.template))?;
            let new = match wanted.pattern(file.as_deref(), &overlay.settings) {
                Ok(new) => new,
                Err(error) => return Ok(Err(ZoneRefusal::New(error.into()))),
            };
            let names = by_zone(overlay)?.remove(&zone.name).unwrap_or_default();
            let read = read(overlay, &zone).await;
            Some(Realignable { zone: zone.clone(), old, new, read, attached: names })
        }
    };
    let set = request.nameserver_set.clone().unwrap_or_else(|| zone.nameserver_set.clone());
    let after = Zone { nameserver_set: set, ..zone.clone() };
    let expected = nameserver::expected(Some(&after), None, &overlay.settings);
    let at_registrar = nameserver::at_registrar(&zone.name.dns_name(), &expected);
    let kept = match request.soa.is_empty() {
        true => None,
        false => Some(overlay.read_zone(&zone).await?),
    };
    Ok(Ok(ChangeZoneLoaded { zone, account_known, attached, at_registrar, remade, kept }))
}

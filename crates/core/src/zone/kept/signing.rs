//! Zones that the DNS server signs (RFC 4035): switching it on and off, and what can be seen of the keys and of the DS
//! records that the parent should have. The keys and their rolls are the server's, by a policy of its own configuration.
//!
//! The order is what matters. A DS at the parent without keys here takes the domain away from everybody who validates: so
//! it comes last, and goes first.

use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

use super::{KeptZone, Zone, ZoneHome, ZoneRefusal, ZoneRemark};
use crate::change::{Change, FileRemoval, FileWrite, InventoryChange, Plan, Purpose, Remark};
use crate::delegation::{Ds, Key, Signature};
use crate::harbor::{DnsServer, Layout, NewZones, Settings};
use crate::name::DnsName;
use crate::render::signed_anew;
use crate::zone::{Record, RecordType, serial_date};

/// That the server signs a zone, and what was last seen of it at the parent.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Signing {
    /// The server's own name of its policy.
    pub policy: String,
    #[serde(default)]
    pub seen: Option<DsSeen>,
}

/// What the parent had when it was last asked.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct DsSeen {
    /// The tags of the keys that it has a DS for, sorted.
    pub tags: Vec<u16>,
    /// When it last had one.
    pub last: Option<Timestamp>,
    /// How long resolvers keep it then, in seconds.
    pub ttl: u32,
}

/// The DS records at the parent.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ParentDs {
    pub ds: Vec<Ds>,
    /// In seconds.
    pub ttl: u32,
}

/// What is seen of one key of a zone.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeyState {
    pub key: Key,
    /// Whether it signs the keys, and the other records.
    pub signs_keys: bool,
    pub signs_zone: bool,
    /// Whether the server asks for its DS at the parent (CDS, RFC 7344).
    pub ds_wanted: bool,
    /// `None`: the parent could not be asked.
    pub ds_at_parent: Option<bool>,
}

impl KeyState {
    /// Whether the server asks for a DS that the parent lacks.
    pub fn lacks_ds(&self) -> bool {
        self.ds_wanted && self.ds_at_parent == Some(false)
    }
}

/// What a server answers about the keys of a zone: the records for DNSKEY, SOA and CDS with their signatures.
#[derive(Debug, Clone, Default)]
pub struct KeyAnswers {
    pub keys: Vec<Record>,
    pub soa: Vec<Record>,
    pub cds: Vec<Record>,
}

/// The states of the keys, those that the parent may know first.
pub fn key_states(
    domain: &DnsName,
    answers: &KeyAnswers,
    at_parent: Option<&ParentDs>,
    now: Timestamp,
) -> Vec<KeyState> {
    let signs = |records: &[Record], covered: RecordType, tag: u16| {
        let signatures = records.iter().filter_map(|record| Signature::of(record, now));
        signatures.into_iter().any(|signature| signature.covered == covered && signature.key_tag == tag)
    };
    let wanted: Vec<Ds> = answers.cds.iter().filter_map(Ds::wanted_by).collect();
    let state = |key: Key| KeyState {
        signs_keys: signs(&answers.keys, RecordType::DNSKEY, key.key_tag),
        signs_zone: signs(&answers.soa, RecordType::SOA, key.key_tag),
        ds_wanted: wanted.iter().any(|ds| ds.is_of(&key, domain)),
        ds_at_parent: at_parent.map(|parent| parent.ds.iter().any(|ds| ds.is_of(&key, domain))),
        key,
    };
    let mut states: Vec<KeyState> = answers.keys.iter().filter_map(Key::of).map(state).collect();
    states.sort_by_key(|state| (!state.key.is_entry_point(), state.key.key_tag));
    states
}

/// What the decision rests on.
#[derive(Debug, Clone)]
pub struct SigningLoaded {
    pub kept: KeptZone,
    /// The part of the zone list that the zone stands in.
    pub zone_list: Option<Vec<u8>>,
    /// The journal that BIND keeps of the unsigned form, beside the file.
    pub journal: Option<Vec<u8>>,
    /// The serial that the server answers with.
    pub served: Option<u32>,
    /// What the parent has; or why that is not known, in words.
    pub at_parent: Result<ParentDs, String>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SigningRefused {
    /// It is kept on a primary elsewhere, or by somebody else.
    NotHere,
    /// The server has no keys and signs nothing.
    ServerSignsNothing(&'static str),
    /// BIND remembers new zones itself (`new-zones = "addzone"`).
    ServerRemembers,
    /// Its definition in the zone list is none that this program wrote.
    OwnDefinition,
    SignedInFile,
    /// The parent still has DS records for these keys.
    DsAtParent(Vec<u16>),
    /// Resolvers may still have one.
    DsCached {
        until: Timestamp,
    },
    ParentUnknown(String),
}

/// Has the server sign the zone by its policy.
pub fn sign(loaded: &SigningLoaded, policy: &str, settings: &Settings, layout: &Layout) -> Result<Plan, ZoneRefusal> {
    let zone = &loaded.kept.zone;
    let mut plan = Plan::new(format!("zone change {} --sign {policy}", zone.name));
    if zone.signed_by() == Some(policy) {
        plan.remark(Remark::Unchanged);
        return Ok(plan);
    }
    if loaded.kept.document.is_signed() {
        return Err(refused(zone, SigningRefused::SignedInFile));
    }
    let seen = zone.signing.as_ref().and_then(|signing| signing.seen.clone());
    let after = Some(Box::new(Signing { policy: policy.to_string(), seen }));
    change_list(loaded, after, settings, layout, &mut plan)?;
    plan.remark(ZoneRemark::SigningOn { zone: zone.name.clone(), policy: policy.to_string() });
    Ok(plan)
}

/// Has the server sign the zone no more, once no validating resolver can expect it to be signed.
pub fn sign_no_more(
    loaded: &SigningLoaded,
    settings: &Settings,
    layout: &Layout,
    now: Timestamp,
) -> Result<Plan, ZoneRefusal> {
    let zone = &loaded.kept.zone;
    let mut plan = Plan::new(format!("zone change {} --no-sign", zone.name));
    let Some(signing) = &zone.signing else {
        plan.remark(Remark::Unchanged);
        return Ok(plan);
    };
    match &loaded.at_parent {
        Err(words) => return Err(refused(zone, SigningRefused::ParentUnknown(words.clone()))),
        Ok(parent) if !parent.ds.is_empty() => {
            let tags = parent.ds.iter().map(|ds| ds.key_tag).collect();
            return Err(refused(zone, SigningRefused::DsAtParent(tags)));
        }
        Ok(_) => {}
    }
    let until = signing.seen.as_ref().and_then(|seen| {
        let kept = SignedDuration::from_secs(seen.ttl.into());
        seen.last.and_then(|last| last.checked_add(kept).ok())
    });
    if let Some(until) = until.filter(|until| *until > now) {
        return Err(refused(zone, SigningRefused::DsCached { until }));
    }
    change_list(loaded, None, settings, layout, &mut plan)?;
    // The signed form had serials of the server's own: secondaries take none that is lower.
    let newest = loaded.served.unwrap_or_default();
    let raised = loaded.kept.document.raised_above(newest, serial_date(now));
    let raised = raised.map_err(|error| ZoneRefusal::Edit { zone: zone.name.clone(), error })?;
    plan.change(loaded.kept.change(&raised, &[], &[]));
    plan.set.changes.extend(journal_removal(layout, zone, loaded.journal.as_ref()));
    plan.remark(ZoneRemark::SigningOff { zone: zone.name.clone() });
    Ok(plan)
}

/// BIND would lay the journal of a zone that it signed over the file from then on, and refuse what does not fit it.
pub(super) fn journal_removal(layout: &Layout, zone: &Zone, journal: Option<&Vec<u8>>) -> Option<Change> {
    let removal = FileRemoval::new(layout.zone_journal(&zone.name), journal?.clone(), 0o644, Purpose::Loose);
    Some(Change::RemoveFile(removal))
}

fn refused(zone: &Zone, why: SigningRefused) -> ZoneRefusal {
    ZoneRefusal::Signing { zone: zone.name.clone(), why }
}

/// The zone's stanza and its place in the inventory.
fn change_list(
    loaded: &SigningLoaded,
    after: Option<Box<Signing>>,
    settings: &Settings,
    layout: &Layout,
    plan: &mut Plan,
) -> Result<(), ZoneRefusal> {
    let (zone, server) = (&loaded.kept.zone, settings.dns.server);
    let refused = |why| Err(refused(zone, why));
    if zone.home != ZoneHome::Here || !loaded.kept.is_file() {
        return refused(SigningRefused::NotHere);
    }
    if !matches!(server, DnsServer::Bind | DnsServer::Knot) {
        return refused(SigningRefused::ServerSignsNothing(server.words()));
    }
    if server == DnsServer::Bind && settings.dns.new_zones == NewZones::Addzone {
        return refused(SigningRefused::ServerRemembers);
    }
    let list = String::from_utf8_lossy(loaded.zone_list.as_deref().unwrap_or_default());
    let policy = after.as_ref().map(|signing| signing.policy.as_str());
    let file = layout.zone_file(&zone.name);
    let Some(text) = signed_anew(server, &list, &zone.name, &file, zone.signed_by(), policy) else {
        return refused(SigningRefused::OwnDefinition);
    };
    let part = layout.zone_list_of(server, &zone.name);
    plan.change(Change::WriteFile(FileWrite::new(part, loaded.zone_list.clone(), text, 0o644, Purpose::ZoneList)));
    let (before, after) = (zone.clone(), Zone { signing: after, ..zone.clone() });
    plan.set.inventory(InventoryChange::ReplaceZone { before, after });
    Ok(())
}

/// What the server has to be told of the parent, and what is remembered of it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ParentNews {
    /// Keys whose DS the parent has by now.
    pub published: Vec<u16>,
    /// Those whose DS it has no more.
    pub withdrawn: Vec<u16>,
    /// `None`: as before.
    pub seen: Option<DsSeen>,
}

/// How long a sight of the parent stays fresh.
const FRESH: SignedDuration = SignedDuration::from_hours(1);

/// What is new at the parent since it was last asked. The tags alone tell: what a DS of another algorithm or digest means is
/// judged by `delegation check`.
pub fn parent_news(signing: &Signing, parent: &ParentDs, now: Timestamp) -> ParentNews {
    let mut tags: Vec<u16> = parent.ds.iter().map(|ds| ds.key_tag).collect();
    tags.sort_unstable();
    tags.dedup();
    let before = signing.seen.clone().unwrap_or_default();
    let new = |some: &[u16], others: &[u16]| some.iter().copied().filter(|tag| !others.contains(tag)).collect();
    let (published, withdrawn): (Vec<u16>, Vec<u16>) = (new(&tags, &before.tags), new(&before.tags, &tags));
    let stale = before.last.is_none_or(|last| now.duration_since(last) > FRESH);
    let worth_keeping = tags != before.tags || (!tags.is_empty() && stale);
    let last = if tags.is_empty() { before.last } else { Some(now) };
    let ttl = if tags.is_empty() { before.ttl } else { parent.ttl };
    ParentNews { published, withdrawn, seen: worth_keeping.then_some(DsSeen { tags, last, ttl }) }
}

/// Remembers what the parent has, once the server has heard it.
pub fn remember_parent(title: &str, zone: Option<Zone>, seen: &DsSeen) -> Plan {
    let mut plan = Plan::new(title);
    if let Some((before, signing)) = zone.and_then(|zone| zone.signing.clone().map(|signing| (zone, signing))) {
        let after =
            Zone { signing: Some(Box::new(Signing { seen: Some(seen.clone()), ..*signing })), ..before.clone() };
        plan.set.inventory(InventoryChange::ReplaceZone { before, after });
    }
    plan
}

#[cfg(test)]
#[path = "signing_tests.rs"]
mod tests;

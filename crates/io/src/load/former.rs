//! Looks at the zone that the world uses for a domain: by transfer where it is given, else by the usual questions, to the
//! servers that the parent names. What is made of it is decided in `zone::former` of the core.

use std::collections::BTreeSet;
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use brightharbor_core::delegation::rules::Expected;
use brightharbor_core::delegation::{
    Brief, Outcome, Picture, Question, Registered, Reply, ServerState, is_in_place, state_of,
};
use brightharbor_core::harbor::Settings;
use brightharbor_core::name::{DnsName, Hostname};
use brightharbor_core::zone::{
    Difference, FormerSource, FormerWish, FormerZone, Record, RecordType, Zone, ZoneHome, absent_name, differences,
    further_questions, own_servers, questions, set_words,
};
use futures_util::{StreamExt, stream};
use tokio::time::timeout;

use super::LoadError;
use crate::dns::{ask, resolve_all, transfer, walk_within};
use crate::harbor::Harbor;
use crate::overlay::Overlay;
use crate::survey::{brief, resolvers};
use crate::zones::read_zone;

/// Whoever attaches a domain is not to wait for a silent registry.
pub(super) const LONGEST_WALK: Duration = Duration::from_secs(4);
const LONGEST_TRANSFER: Duration = Duration::from_secs(2);
/// Questions that have no answer by then count as unanswered.
const LONGEST_LOOK: Duration = Duration::from_secs(6);
/// Questions to one server at the same time.
const AT_ONCE: usize = 16;
/// Servers that are tried.
const MOST_SERVERS: usize = 4;

/// The former zone as it is wished for; `None` where there is none, or none is wanted.
pub(super) async fn former_zone(
    overlay: &Overlay<'_>,
    domain: &Hostname,
    wish: &FormerWish,
) -> Result<Option<FormerZone>, LoadError> {
    match wish {
        FormerWish::Bare => Ok(None),
        FormerWish::File { name, records } => {
            let from = FormerSource::File(name.clone());
            Ok(Some(FormerZone::whole(&domain.dns_name(), records.clone(), from, false)))
        }
        FormerWish::Look => {
            let asking = world_zone(&overlay.settings, domain, &[]);
            Ok(match overlay.ask(&format!("the zone that the world uses for {domain}"), asking).await? {
                WorldZone::Seen(seen) => Some(seen),
                WorldZone::Ours | WorldZone::NotDelegated | WorldZone::Silent => None,
            })
        }
    }
}

/// What the world is answered for a domain.
#[derive(Debug, Clone)]
enum WorldZone {
    Seen(FormerZone),
    /// By servers of ours alone.
    Ours,
    NotDelegated,
    /// Nobody answers, or nobody could be asked.
    Silent,
}

/// The zone that the world gets from the servers to which the domain is delegated; `also` is asked for beside the usual
/// questions.
async fn world_zone(settings: &Settings, domain: &Hostname, also: &[(DnsName, RecordType)]) -> WorldZone {
    let brief = Brief { validates: true, ..brief(settings, domain, &[]) };
    let picture = walk_within(&brief, LONGEST_WALK).await;
    match picture.registered {
        Registered::Yes => {}
        Registered::No => return WorldZone::NotDelegated,
        Registered::Unknown(_) => return WorldZone::Silent,
    }
    let ours = own_servers(settings);
    let is_ours = |server: &SocketAddr| ours.iter().any(|own| own.address == *server);
    let all = servers(&picture);
    let others: Vec<SocketAddr> = all.iter().copied().filter(|server| !is_ours(server)).collect();
    if others.is_empty() && !all.is_empty() {
        return WorldZone::Ours;
    }
    let seen = look(&domain.dns_name(), &others, !picture.ds.is_empty(), also).await;
    seen.map_or(WorldZone::Silent, WorldZone::Seen)
}

/// A zone of the harbor beside what the world is answered.
pub enum ZoneCompared {
    Differs {
        there: FormerZone,
        differences: Vec<Difference>,
    },
    /// The world is answered by servers of the harbor.
    InUse,
    NotDelegated,
    Silent,
}

/// Compares a zone with what the world is answered for it, or with what `servers` answer, where some are named.
pub async fn compare_zone(harbor: &Harbor, zone: &Zone, servers: &[SocketAddr]) -> Result<ZoneCompared, LoadError> {
    let document = read_zone(harbor, zone).await?.document;
    let own: Vec<_> = document.records().map(|one| (one.owner.clone(), one.record_type())).collect();
    let world = match servers.is_empty() {
        true => world_zone(&harbor.settings, &zone.name, &own).await,
        false => look(&zone.name.dns_name(), servers, false, &own).await.map_or(WorldZone::Silent, WorldZone::Seen),
    };
    Ok(match world {
        WorldZone::Seen(there) => {
            let attached = harbor.store.hostnames_within(&zone.name)?;
            ZoneCompared::Differs { differences: differences(&document, &there, &attached), there }
        }
        WorldZone::Ours => ZoneCompared::InUse,
        WorldZone::NotDelegated => ZoneCompared::NotDelegated,
        WorldZone::Silent => ZoneCompared::Silent,
    })
}

/// What the world has today and would lose if a domain moved here as its zone stands, a record set each. Nothing where the
/// zone is not kept here, or there is nobody to compare with.
pub async fn losses(harbor: &Harbor, domain: &Hostname) -> Result<Vec<String>, LoadError> {
    let Some(zone) = harbor.store.zone(domain)?.filter(|zone| zone.home != ZoneHome::Elsewhere) else {
        return Ok(vec![]);
    };
    let ZoneCompared::Differs { there, differences } = compare_zone(harbor, &zone, &[]).await? else {
        return Ok(vec![]);
    };
    let lost = differences.iter().filter(|one| one.differs.is_loss());
    Ok(lost.map(|one| set_words(&one.owner, one.record_type, &there.origin)).collect())
}

/// Asks the nameservers that a domain is to move to what they are for it. Their addresses are the harbor's, else looked up;
/// one without any is left to the registry, and addresses that are none of the internet are not asked.
pub async fn ask_next_servers(
    settings: &Settings,
    domain: &DnsName,
    wanted: &Expected,
) -> Vec<(DnsName, IpAddr, ServerState)> {
    let mut asked = Vec::new();
    for name in &wanted.nameservers {
        let mut addresses: BTreeSet<IpAddr> = wanted.addresses.get(name).into_iter().flatten().copied().collect();
        if addresses.is_empty() {
            addresses = looked_up(settings, name).await;
        }
        let roots = settings.internet.roots();
        for address in addresses.into_iter().filter(|address| is_in_place(*address, &roots)) {
            let server = SocketAddr::new(address, settings.internet.dns_port());
            let soa = ask(&Question::authoritative(server, domain, RecordType::SOA)).await.outcome;
            asked.push((name.clone(), address, state_of(&soa, &soa, domain)));
        }
    }
    asked
}

/// The addresses that a name leads to, as our resolvers have it.
pub(super) async fn looked_up(settings: &Settings, name: &DnsName) -> BTreeSet<IpAddr> {
    let resolved = resolve_all(&resolvers(settings), name).await;
    resolved.into_iter().flat_map(|one| one.addresses).map(|one| one.address).collect()
}

fn servers(picture: &Picture) -> Vec<SocketAddr> {
    let mut all: Vec<SocketAddr> = picture.authoritative_servers().map(|(_, server)| server.address).collect();
    all.sort();
    all.dedup();
    all.truncate(MOST_SERVERS);
    all
}

/// At the first server that gives it away, else at the first that answers.
async fn look(
    origin: &DnsName,
    servers: &[SocketAddr],
    signed: bool,
    also: &[(DnsName, RecordType)],
) -> Option<FormerZone> {
    for server in servers {
        if let Ok(Ok(records)) = timeout(LONGEST_TRANSFER, transfer(*server, origin, None)).await {
            return Some(FormerZone::whole(origin, records, FormerSource::Transfer(*server), signed));
        }
    }
    for server in servers {
        let first: Vec<_> = questions(origin).into_iter().chain(also.iter().cloned()).collect();
        let asked = timeout(LONGEST_LOOK, asked(*server, origin, first)).await;
        if let Ok(Some((records, absent))) = asked {
            return Some(FormerZone::asked(origin, records, &absent, *server, signed));
        }
    }
    None
}

/// The records that the questions give, and those of the name that nobody has; `None` without any answer.
async fn asked(
    server: SocketAddr,
    origin: &DnsName,
    first: Vec<(DnsName, RecordType)>,
) -> Option<(Vec<Record>, Vec<Record>)> {
    let mut records = answers(server, &first).await?;
    let known: std::collections::HashSet<_> = first.into_iter().collect();
    let further: Vec<_> = further_questions(origin, &records).into_iter().filter(|one| !known.contains(one)).collect();
    records.extend(answers(server, &further).await.unwrap_or_default());
    let absent = absent_name(origin);
    let (of_absent, of_names) = records.into_iter().partition(|record| Some(&record.owner) == absent.as_ref());
    Some((of_names, of_absent))
}

async fn answers(server: SocketAddr, wanted: &[(DnsName, RecordType)]) -> Option<Vec<Record>> {
    let asking = wanted.iter().map(|(name, record_type)| {
        let question = Question::authoritative(server, name, *record_type);
        async move { (ask(&question).await.outcome, question) }
    });
    let heard: Vec<_> = stream::iter(asking).buffer_unordered(AT_ONCE).collect().await;
    let mut any = wanted.is_empty();
    let mut records: Vec<Record> = Vec::new();
    for (outcome, question) in heard {
        let Outcome::Reply(Reply { authoritative: true, answer, .. }) = outcome else { continue };
        any = true;
        // Where the name is an alias, the records behind it are another name's.
        for record in answer.into_iter().filter(|record| record.owner == question.name) {
            if !records.contains(&record) {
                records.push(record);
            }
        }
    }
    any.then_some(records)
}

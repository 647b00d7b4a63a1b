//! `certificate prove`: what a seller of certificates wants to see, put in place, looked at as the seller does, and
//! taken away again.

use std::path::PathBuf;
use std::time::Duration;

use brightharbor_core::change::{Change, ChangeSet, FileRemoval, FileWrite, Purpose};
use brightharbor_core::name::{Hostname, registrable_domain};
use brightharbor_core::render::site_file;
use brightharbor_core::site::{Demand, DemandedProof, Site, USUAL_FOLDER, Zone, ZoneHome};
use brightharbor_core::zone::{AlterRequest, Record};
use brightharbor_io::harbor::Harbor;
use brightharbor_io::install::read_if_there;
use brightharbor_io::survey::sees_file;
use brightharbor_io::zones::read_zone;
use clap::Args;
use jiff::{SignedDuration, Timestamp};

use super::list::site_of;
use super::proven::{Proven, Seen};
use crate::commands::record::alter_zone;
use crate::commands::record::watch::{WatchOption, watch};
use crate::commands::{Report, host};
use crate::duration::end_of_day;
use crate::error::Error;
use crate::look::surroundings;
use crate::options::ChangeOptions;
use crate::run::{Context, Decision, change};
use crate::site_change::{site_change, until_served};

/// What sellers make up for a demand is good for so long (CA/Browser Forum Baseline Requirements, section 3.2.2.4).
const USUAL_DAYS: i64 = 30;
/// Our own servers, the secondaries among them, have a record within that time.
const PATIENCE: Duration = Duration::from_secs(20);
/// A new record where an administrator elsewhere is to enter it.
const TTL: u32 = 3600;

/// Put in place what a seller of certificates wants to see before it sells one: a file at a path, or a record. Without
/// either, look again at what is in place. It is taken away when the certificate is imported.
#[derive(Debug, Args)]
pub struct Prove {
    /// A hostname of the site.
    hostname: String,
    /// The file that the seller gave: it is shown as it is, at every name of the site.
    #[arg(long, value_name = "FILE")]
    file: Option<PathBuf>,
    /// The path that the seller looks at; by default /.well-known/pki-validation/ and the file's name.
    #[arg(long, value_name = "PATH", requires = "file")]
    at: Option<String>,
    /// The record that the seller gave, as in "_5f3a CNAME 9c1e.seller.example."; may be given several times.
    #[arg(long, value_name = "RECORD")]
    record: Vec<String>,
    /// The last day that it stays in place (UTC), as 2026-12-24; by default in 30 days.
    #[arg(long, value_name = "DATE")]
    until: Option<jiff::civil::Date>,
    /// Take everything away again.
    #[arg(long, conflicts_with_all = ["file", "record", "until", "watch"])]
    remove: bool,
    #[command(flatten)]
    watch: WatchOption,
    #[command(flatten)]
    options: ChangeOptions,
}

pub fn run(args: &Prove, context: &Context) -> Report {
    context.block_on(prove(args, context))?
}

async fn prove(args: &Prove, context: &Context) -> Report {
    let name = host(&args.hostname)?;
    let patience = args.watch.patience()?;
    let until = args.until.map(end_of_day).transpose()?;
    let file = args.file.as_deref().map(|path| {
        std::fs::read(path).map(|content| (path, content)).map_err(|error| {
            Error::refused("file", format!("{}: {error}", path.display())).advice("give the file that the seller gave")
        })
    });
    let file = file.transpose()?;
    let title = format!("certificate prove {name}");
    let mut site = None;
    let changed = change(context, &title, &args.options, async |harbor, now| {
        let before = site_of(harbor, &name)?;
        let until = until.unwrap_or_else(|| in_days(now, USUAL_DAYS));
        let (mut new, mut said) = (Vec::new(), Vec::new());
        if let Some((path, content)) = &file {
            let at = match (&args.at, path.file_name()) {
                (Some(at), _) => at.clone(),
                (None, named) => format!("{USUAL_FOLDER}{}", named.unwrap_or_default().to_string_lossy()),
            };
            let proof = DemandedProof::file(&at, content).map_err(Error::wrong_use)?;
            new.push(Demand { until, proof });
        }
        for typed in &args.record {
            let meant = DemandedProof::record(typed, &before).map_err(Error::wrong_use)?;
            said.extend(meant.said);
            new.push(Demand { until, proof: meant.value });
        }
        let (mut decision, after) = match args.remove {
            true => take_away(harbor, &before, &args.options, |_| false, &title).await?,
            false => put_in_place(harbor, &before, new, &args.options, &title).await?,
        };
        decision.said.splice(0..0, said);
        site = Some(after);
        Ok(decision)
    })
    .await?;
    let site = site.ok_or_else(|| Error::refused("inventory", "the site was lost"))?;
    let harbor = context.open()?;
    let handed_over = handed_over(&harbor, &site)?;
    let done = changed.entry.is_some() || changed.set.is_empty();
    let mut seen = Vec::new();
    if done {
        until_served(context, &changed).await?;
        seen = look(context, &harbor, &site, patience).await?;
    }
    let removed = args.remove;
    Ok(Box::new(Proven { changed, site, seen, handed_over, removed, asked: done }))
}

fn in_days(now: Timestamp, days: i64) -> Timestamp {
    now.checked_add(SignedDuration::from_hours(24 * days)).unwrap_or(now)
}

/// The site with further demands, and what shows them. The same once more only gets another day.
async fn put_in_place(
    harbor: &Harbor,
    before: &Site,
    new: Vec<Demand>,
    options: &ChangeOptions,
    title: &str,
) -> Result<(Decision, Site), Error> {
    let mut set = ChangeSet::new(title);
    let mut after = before.clone();
    let displaced = |demand: &Demand| new.iter().any(|other| other.proof.displaces(&demand.proof));
    after.rules.demands.retain(|demand| !displaced(demand));
    after.rules.demands.extend(new);
    records(harbor, before, &after, &mut set).await?;
    files(harbor, before, &after, &mut set)?;
    if after != *before {
        site_change(harbor, before, &after, options, &mut set)?;
    }
    Ok((Decision { set, said: vec![] }, after))
}

/// The site without the demands that are not `kept`.
async fn take_away(
    harbor: &Harbor,
    before: &Site,
    options: &ChangeOptions,
    kept: impl Fn(&Demand) -> bool,
    title: &str,
) -> Result<(Decision, Site), Error> {
    let mut set = ChangeSet::new(title);
    let mut after = before.clone();
    after.rules.demands.retain(kept);
    records(harbor, before, &after, &mut set).await?;
    if after != *before {
        site_change(harbor, before, &after, options, &mut set)?;
    }
    files(harbor, before, &after, &mut set)?;
    let gone = before.rules.demands.iter().filter(|demand| !after.rules.demands.contains(demand));
    let said = gone.map(|demand| format!("taken away: {}", words(&demand.proof, before))).collect();
    Ok((Decision { set, said }, after))
}

/// Takes away what the seller of a site's certificate has demanded, since it is there now.
pub async fn take_all_away(context: &Context, main: &Hostname) -> Result<Vec<String>, Error> {
    let title = format!("take away what was demanded for {main}");
    let yes = ChangeOptions { dry_run: false, yes: true };
    let changed = change(context, &title, &yes, async |harbor, _| {
        let site = site_of(harbor, main)?;
        let (decision, _) = take_away(harbor, &site, &yes, |_| false, &title).await?;
        Ok(decision)
    })
    .await?;
    Ok(changed.said)
}

/// Takes away all demands whose day is over, and looks at the others.
pub async fn tend_demands(context: &Context) -> Result<(Vec<String>, Vec<(Hostname, Seen)>), Error> {
    let yes = ChangeOptions { dry_run: false, yes: true };
    let (mut said, mut seen) = (Vec::new(), Vec::new());
    for site in context.open()?.store.sites_with_demands()? {
        let title = format!("tend: end the demands for {}", site.main());
        let changed = change(context, &title, &yes, async |harbor, now| {
            let site = site_of(harbor, site.main())?;
            let (decision, _) = take_away(harbor, &site, &yes, |demand| demand.until > now, &title).await?;
            Ok(decision)
        })
        .await?;
        said.extend(changed.said);
        let harbor = context.open()?;
        let site = site_of(&harbor, site.main())?;
        let all = look(context, &harbor, &site, Some(Duration::ZERO)).await?;
        seen.extend(all.into_iter().map(|one| (site.main().clone(), one)));
    }
    Ok((said, seen))
}

/// In words, with the name that it is for.
fn words(proof: &DemandedProof, site: &Site) -> String {
    match proof {
        DemandedProof::File { path, .. } => format!("http://{}{path}", site.main()),
        DemandedProof::Record { owner, data } => format!("{} {} {data}", owner.bare(), data.record_type()),
    }
}

/// Writes the files that are new, and takes away those that are over.
fn files(harbor: &Harbor, before: &Site, after: &Site, set: &mut ChangeSet) -> Result<(), Error> {
    let folder = harbor.layout.proofs();
    let is_in = |site: &Site, name: &str| site.demanded_files().any(|(_, _, other)| other == name);
    for (_, content, name) in after.demanded_files() {
        let path = folder.join(&name);
        let present = read_if_there(&path)?;
        if present.as_deref() != Some(content.as_bytes()) {
            set.file(FileWrite::new(path, present, content, 0o644, Purpose::Loose));
        }
    }
    for (_, _, name) in before.demanded_files().filter(|(_, _, name)| !is_in(after, name)) {
        let path = folder.join(&name);
        if let Some(present) = read_if_there(&path)? {
            set.changes.push(Change::RemoveFile(FileRemoval::new(path, present, 0o644, Purpose::Loose)));
        }
    }
    Ok(())
}

/// Brings the zones in step: those of this harbor, and primaries that take our updates.
async fn records(harbor: &Harbor, before: &Site, after: &Site, set: &mut ChangeSet) -> Result<(), Error> {
    let proofs = |site: &Site| site.rules.demands.iter().map(|demand| demand.proof.clone()).collect::<Vec<_>>();
    let (old, new) = (proofs(before), proofs(after));
    let gone = old.iter().filter(|proof| !new.contains(proof)).filter_map(|proof| proof.request(false));
    // Those that were there already too: a record that somebody has removed comes back.
    let wanted = gone.chain(new.iter().filter_map(|proof| proof.request(true)));
    let mut by_zone: Vec<(Zone, Vec<AlterRequest>)> = Vec::new();
    for request in wanted {
        let Some(zone) = harbor.store.zone_holding(&request.owner)? else { continue };
        match by_zone.iter_mut().find(|(other, _)| *other == zone) {
            Some((_, requests)) => requests.push(request),
            None => by_zone.push((zone, vec![request])),
        }
    }
    for (zone, requests) in by_zone {
        if zone.home == ZoneHome::Elsewhere {
            continue;
        }
        let kept = read_zone(harbor, &zone).await?;
        let around = surroundings(harbor, &zone)?;
        let (mut document, mut removed, mut added) = (kept.document.clone(), Vec::new(), Vec::new());
        for request in requests {
            let all: Vec<Record> = document.records().cloned().collect();
            if request.is_seen_in(&all) {
                continue;
            }
            let altered = alter_zone(&document, &request, &around)?;
            document = altered.zone;
            removed.extend(altered.removed);
            added.extend(altered.added);
        }
        if !removed.is_empty() || !added.is_empty() {
            set.extend(vec![kept.change(&document, &removed, &added)]);
        }
    }
    Ok(())
}

/// The lines that somebody else has to enter where the zone is kept.
fn handed_over(harbor: &Harbor, site: &Site) -> Result<Vec<String>, Error> {
    let mut lines = Vec::new();
    for demand in &site.rules.demands {
        match &demand.proof {
            DemandedProof::Record { owner, data } => {
                let zone = harbor.store.zone_holding(owner)?;
                if zone.is_none_or(|zone| zone.home == ZoneHome::Elsewhere) {
                    lines.push(Record { owner: owner.clone(), ttl: TTL, data: data.clone() }.to_string());
                }
            }
            DemandedProof::File { path, .. } => {
                if site_file(site, &harbor.settings, &harbor.layout).is_none() {
                    lines.push(format!("the file, on the web server: {path}"));
                }
            }
        }
    }
    Ok(lines)
}

/// Looks as the seller does: at the authoritative servers, and at the web servers that the names lead to.
async fn look(context: &Context, harbor: &Harbor, site: &Site, patience: Option<Duration>) -> Result<Vec<Seen>, Error> {
    let mut seen = Vec::new();
    for demand in &site.rules.demands {
        let mut one = |subject: String, problem: Option<String>| seen.push(Seen::of(demand, subject, problem));
        match &demand.proof {
            DemandedProof::File { path, content } => {
                for name in &site.hostnames {
                    context.progress.doing(&format!("looking at http://{name}{path}"));
                    let problem = sees_file(&harbor.settings, name, path, content).await.err();
                    one(format!("http://{name}{path}"), problem);
                }
            }
            DemandedProof::Record { owner, data } => {
                let Some(request) = demand.proof.request(true) else { continue };
                let here = harbor.store.zone_holding(owner)?;
                let ours = here.as_ref().is_some_and(|zone| zone.home != ZoneHome::Elsewhere);
                let zone = here.unwrap_or_else(|| {
                    let domain = registrable_domain(site.main()).unwrap_or_else(|| site.main().clone());
                    Zone::new(domain, site.account.clone(), ZoneHome::Elsewhere)
                });
                let patience = patience.unwrap_or(if ours { PATIENCE } else { Duration::ZERO });
                let watched = watch(context, harbor, &zone, &request, patience).await;
                one(format!("{} {} {data}", owner.bare(), data.record_type()), watched.problem());
            }
        }
    }
    Ok(seen)
}

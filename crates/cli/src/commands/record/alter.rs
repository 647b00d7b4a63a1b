//! What `add`, `replace` and `remove` share: what was typed, the decision, and the change in its place.

use std::path::{Path, PathBuf};
use std::time::Duration;

use brightharbor_core::change::Remark;
use brightharbor_core::delegation::rules::judge;
use brightharbor_core::name::DnsName;
use brightharbor_core::zone::{
    AlterRequest, Alteration, RecordData, RecordType, Zone, ZoneHome, ZoneRemark, alter_kept, alter_loose,
    data_as_meant, owner_as_meant, parse_ttl,
};
use brightharbor_io::clock;
use brightharbor_io::dns::walk_within;
use brightharbor_io::install::{one_edit_at_a_time, read_if_there, replace_if_unchanged};
use brightharbor_io::load::{LoadError, surroundings};
use brightharbor_io::look::expected;
use brightharbor_io::master_file::parse_file;
use brightharbor_io::overlay::Overlay;
use brightharbor_io::survey::brief;
use brightharbor_io::watch::watch;
use clap::Args;

use super::elsewhere::Elsewhere;
use super::place::Where;
use super::report::RecordReport;
use crate::commands::Report;
use crate::error::{Error, unreadable_zone};
use crate::options::{ChangeOptions, WatchOption};
use crate::run::{Carried, Context, change};

/// The world is looked at beside the edit; where it does not answer, the edit does not wait for it.
const LOOK_AT_DELEGATION: Duration = Duration::from_secs(5);

/// What all three take alike, beside the records.
#[derive(Debug, Args)]
pub struct Manner {
    #[command(flatten)]
    pub place: Where,
    #[command(flatten)]
    pub watch: WatchOption,
    #[command(flatten)]
    pub options: ChangeOptions,
}

/// What `add` and `replace` take alike.
#[derive(Debug, Args)]
pub struct Written {
    /// A label, `@` for the zone itself, or a full name.
    pub owner: String,
    /// The type, such as A, MX or TXT.
    pub record_type: String,
    /// The data, one argument a record: 192.0.2.7, "10 mail", "v=spf1 mx -all".
    #[arg(required = true)]
    pub data: Vec<String>,
    /// How long answers may be cached: seconds, or as 1h30m. By default as the other records of the name and type,
    /// else as the zone says.
    #[arg(long)]
    ttl: Option<String>,
    #[command(flatten)]
    pub manner: Manner,
}

impl Written {
    /// The TTL as typed, read.
    pub fn ttl(&self) -> Result<Option<u32>, Error> {
        let read = |text: &String| {
            let seconds = parse_ttl(text).filter(|seconds| *seconds <= 0x7fff_ffff);
            seconds
                .ok_or_else(|| Error::wrong_use(format!("`{text}` is not a TTL")).advice("give seconds, or as 1h30m"))
        };
        self.ttl.as_ref().map(read).transpose()
    }

    pub fn asked(&self, verb: &'static str) -> Asked<'_> {
        Asked { verb, owner: &self.owner, record_type: &self.record_type, data: &self.data }
    }
}

/// What was typed.
pub struct Asked<'a> {
    pub verb: &'static str,
    pub owner: &'a str,
    pub record_type: &'a str,
    pub data: &'a [String],
}

pub fn run_alteration(
    asked: &Asked<'_>,
    manner: &Manner,
    context: &Context,
    make: impl FnOnce(Vec<RecordData>) -> Alteration,
) -> Report {
    match (&manner.place.file, &manner.place.origin) {
        (Some(file), Some(origin)) => in_file(asked, file, origin, manner, make),
        _ => in_harbor(asked, manner, context, make),
    }
}

/// What was typed, as meant in the zone, with what was made of it.
fn meant(
    asked: &Asked<'_>,
    zone: &DnsName,
    make: impl FnOnce(Vec<RecordData>) -> Alteration,
) -> Result<(AlterRequest, Vec<String>), Error> {
    let record_type = RecordType::parse(asked.record_type).filter(|kind| !kind.is_meta()).ok_or_else(|| {
        Error::wrong_use(format!("`{}` is not a record type", asked.record_type.escape_default()))
            .advice("give a mnemonic such as AAAA, or TYPE and its number")
    })?;
    let wrong = |error: brightharbor_core::zone::TypedError| Error::wrong_use(error);
    let owner = owner_as_meant(asked.owner, zone).map_err(wrong)?;
    let mut said = owner.said;
    let mut data = Vec::with_capacity(asked.data.len());
    for typed in asked.data {
        let value = data_as_meant(typed, record_type, zone).map_err(wrong)?;
        said.extend(value.said);
        data.push(value.value);
    }
    Ok((AlterRequest { owner: owner.value, record_type, alteration: make(data) }, said))
}

/// A file anywhere: relative names in it count from the current directory, as BIND's own checker has it.
fn in_file(
    asked: &Asked<'_>,
    file: &Path,
    origin: &DnsName,
    manner: &Manner,
    make: impl FnOnce(Vec<RecordData>) -> Alteration,
) -> Report {
    let (request, said) = meant(asked, origin, make)?;
    let includes = manner.place.includes;
    let shown = file.display().to_string();
    let held = file.exists() && !manner.options.dry_run;
    let _alone = held.then(|| one_edit_at_a_time(file)).transpose()?;
    let before = read_if_there(file)?.ok_or_else(|| {
        Error::refused("zone-file-gone", format!("file not found: {shown}")).advice("correct the path")
    })?;
    let document = parse_file(before, origin, includes.of(file, Path::new(".")))
        .map_err(|error| unreadable_zone(&shown, &error))?;
    let title = format!("record {} {}", asked.verb, request.owner.bare());
    let (mut plan, altered) = alter_loose(file.to_path_buf(), document, &request, &title, clock::now())?;
    plan.remarks = said.into_iter().map(Remark::Taken).collect();
    let journal = PathBuf::from(format!("{shown}.jnl"));
    if journal.exists() {
        plan.remark(ZoneRemark::JournalBeside { file: file.to_path_buf(), journal });
    }
    let done = !manner.options.dry_run;
    if done {
        let [before, after] = [plan.set.before(file), plan.set.pending(file)].map(Option::unwrap_or_default);
        replace_if_unchanged(file, before, after)?;
    }
    let carried = Carried { plan, entry: None, took: Duration::ZERO, missing: vec![] };
    Ok(Box::new(RecordReport { verb: asked.verb, carried, altered, done, loaded: None, watched: None }))
}

fn in_harbor(
    asked: &Asked<'_>,
    manner: &Manner,
    context: &Context,
    make: impl FnOnce(Vec<RecordData>) -> Alteration,
) -> Report {
    let harbor = context.open()?;
    let zone = manner.place.zone(&harbor, asked.owner)?;
    let (request, said) = meant(asked, &zone.name.dns_name(), make)?;
    let patience = manner.watch.patience()?;
    let settings = harbor.settings.clone();
    drop(harbor);
    let watch = async |patience: Duration| {
        watch(&settings, &zone.name, &request, patience, &|event| context.progress.event(event)).await
    };
    if zone.home == ZoneHome::Elsewhere {
        let mut elsewhere = Elsewhere::new(asked.verb, &zone, &request, said);
        if let Some(patience) = patience {
            // The lines first: somebody has to enter them while this waits.
            elsewhere.hand_over(context);
            elsewhere.watched = Some(context.block_on(watch(patience))?);
        }
        return Ok(Box::new(elsewhere));
    }
    let title = format!("record {} {} {}", asked.verb, request.owner.bare(), request.record_type);
    let (carried, altered) = context.block_on(change(context, &title, &manner.options, async |overlay, now| {
        let kept = overlay.read_zone(&zone).await?;
        let around = surroundings(overlay, &zone)?;
        context.progress.doing("asking who serves the zone");
        let not_in_use = not_in_use(overlay, &zone).await?;
        let (mut plan, altered) = alter_kept(&kept, &request, &around, not_in_use, &title, now)?;
        plan.remarks.extend(said.iter().cloned().map(Remark::Taken));
        Ok((plan, altered))
    }))??;
    let done = carried.entry.is_some();
    let watched = match patience {
        Some(patience) if done => Some(context.block_on(watch(patience))?),
        _ => None,
    };
    let loaded = done.then(clock::now);
    Ok(Box::new(RecordReport { verb: asked.verb, carried, altered, done, loaded, watched }))
}

/// Whether visitors get another zone than this one, and where an edit for them belongs.
async fn not_in_use(overlay: &Overlay<'_>, zone: &Zone) -> Result<Option<ZoneRemark>, Error> {
    const BELONGS_ELSEWHERE: [&str; 2] = ["nameservers-not-as-expected", "not-registered"];
    let expected = expected(overlay, &zone.name)?;
    let brief = brief(&overlay.settings, &zone.name, &[]);
    let asking = async { walk_within(&brief, LOOK_AT_DELEGATION).await };
    let picture = overlay.ask(&format!("who serves {}", zone.name), asking).await.map_err(LoadError::from)?;
    let finding = judge(&picture, &expected).into_iter().find(|finding| BELONGS_ELSEWHERE.contains(&finding.code));
    let nameservers = picture.delegated_names();
    Ok(finding.map(|finding| ZoneRemark::NotInUse { zone: zone.name.clone(), finding, nameservers }))
}

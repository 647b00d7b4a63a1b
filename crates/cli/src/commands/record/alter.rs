//! What `add`, `replace` and `remove` share: what was typed, the decision, and the change in its place.

use std::path::Path;
use std::time::Duration;

use brightharbor_core::change::{ChangeSet, FileWrite, Purpose};
use brightharbor_core::delegation::rules::judge;
use brightharbor_core::name::DnsName;
use brightharbor_core::zone::rules::Surroundings;
use brightharbor_core::zone::{
    AlterRequest, Alteration, Altered, Document, RecordData, RecordType, alter, data_as_meant, owner_as_meant,
    parse_ttl, serial_date,
};
use brightharbor_core::zone::{Zone, ZoneHome};
use brightharbor_io::clock;
use brightharbor_io::dns::walk_within;
use brightharbor_io::harbor::Harbor;
use brightharbor_io::install::{read_if_there, replace_if_unchanged};
use brightharbor_io::survey::brief;
use brightharbor_io::zones::{parse_file, read_zone};
use clap::Args;

use super::elsewhere::Elsewhere;
use super::place::Where;
use super::report::RecordReport;
use super::watch::{WatchOption, watch};
use crate::commands::Report;
use crate::error::{Error, unreadable_zone};
use crate::look::surroundings;
use crate::options::ChangeOptions;
use crate::run::{Changed, Context, Decision, change};

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
            seconds.ok_or_else(|| Error::wrong_use(format!("`{text}` is no TTL")).advice("give seconds, or as 1h30m"))
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
        (Some(file), Some(origin)) => in_file(asked, file, origin, &manner.options, make),
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

/// The decision, with advice where it is refused.
fn alter_zone(document: &Document, request: &AlterRequest, around: &Surroundings) -> Result<Altered, Error> {
    Ok(alter(document, request, around, serial_date(clock::now()))?)
}

/// A file anywhere: relative names in it count from the current directory, as BIND's own checker has it.
fn in_file(
    asked: &Asked<'_>,
    file: &Path,
    origin: &DnsName,
    options: &ChangeOptions,
    make: impl FnOnce(Vec<RecordData>) -> Alteration,
) -> Report {
    let (request, said) = meant(asked, origin, make)?;
    let shown = file.display().to_string();
    let before = read_if_there(file)?
        .ok_or_else(|| Error::refused("zone-file-gone", format!("there is no file {shown}")).advice("mend the path"))?;
    let document =
        parse_file(before.clone(), origin, Some(Path::new("."))).map_err(|error| unreadable_zone(&shown, &error))?;
    let altered = alter_zone(&document, &request, &Surroundings::default())?;
    let mut set = ChangeSet::new(format!("record {} {}", asked.verb, request.owner.bare()));
    let content = altered.zone.source().to_vec();
    set.file(FileWrite::new(file.to_path_buf(), Some(before.clone()), content.clone(), 0o644, Purpose::Loose));
    let done = !options.dry_run;
    if done {
        replace_if_unchanged(file, &before, &content)?;
    }
    let changed = Changed { set, said, entry: None, took: Duration::ZERO };
    Ok(Box::new(RecordReport { verb: asked.verb, changed, altered, done, loaded: None, watched: None }))
}

fn in_harbor(
    asked: &Asked<'_>,
    manner: &Manner,
    context: &Context,
    make: impl FnOnce(Vec<RecordData>) -> Alteration,
) -> Report {
    let harbor = context.open()?;
    let zone = manner.place.zone(&harbor, asked.owner)?;
    let (request, mut said) = meant(asked, &zone.name.dns_name(), make)?;
    let patience = manner.watch.patience()?;
    if zone.home == ZoneHome::Elsewhere {
        let mut elsewhere = Elsewhere::new(asked.verb, &zone, &request, said);
        if let Some(patience) = patience {
            // The lines first: somebody has to enter them while this waits.
            elsewhere.hand_over(context);
            elsewhere.watched = Some(context.block_on(watch(context, &harbor, &zone, &request, patience))?);
        }
        return Ok(Box::new(elsewhere));
    }
    context.progress.doing("asking who serves the zone");
    let elsewhere = context.block_on(delegated_elsewhere(&harbor, &zone))??;
    if let Some(elsewhere) = &elsewhere {
        said.insert(0, elsewhere.clone());
    }
    let around = surroundings(&harbor, &zone)?;
    let title = format!("record {} {} {}", asked.verb, request.owner.bare(), request.record_type);
    let mut result = None;
    let changed = context.block_on(change(context, &title, &manner.options, async |harbor, _| {
        let kept = read_zone(harbor, &zone).await?;
        let altered = alter_zone(&kept.document, &request, &around)?;
        let mut set = ChangeSet::new(&title);
        set.changes.push(kept.change(&altered.zone, &altered.removed, &altered.added));
        result = Some(altered);
        Ok(Decision { set, said })
    }))??;
    let altered = result.ok_or_else(|| Error::refused("record", "nothing was decided"))?;
    let done = changed.entry.is_some();
    let watched = match patience {
        Some(patience) if done => Some(context.block_on(watch(context, &harbor, &zone, &request, patience))?),
        _ => None,
    };
    let loaded = done.then(clock::now);
    Ok(Box::new(RecordReport { verb: asked.verb, changed, altered, done, loaded, watched }))
}

/// Whether visitors get another zone than this one: then where the edit belongs, in words.
async fn delegated_elsewhere(harbor: &Harbor, zone: &Zone) -> Result<Option<String>, Error> {
    let expected = crate::look::expected(harbor, &zone.name)?;
    let picture = walk_within(&brief(&harbor.settings, &zone.name, &[]), LOOK_AT_DELEGATION).await;
    let finding = judge(&picture, &expected)
        .into_iter()
        .find(|finding| ["nameservers-not-as-expected", "not-registered"].contains(&finding.code));
    Ok(finding.map(|finding| {
        let names = picture.delegated_names().iter().map(DnsName::bare).collect::<Vec<_>>().join(", ");
        let belongs =
            if names.is_empty() { String::new() } else { format!(" An edit for visitors belongs to {names}.") };
        format!("nobody gets this zone yet: {}.{belongs}", finding.message)
    }))
}

//! What `add`, `replace` and `remove` share: where the zone is, what was typed, and the change with its report.

use std::path::PathBuf;
use std::time::Duration;

use brightharbor_core::change::{ChangeSet, FileWrite, Purpose};
use brightharbor_core::delegation::rules::judge;
use brightharbor_core::name::{DnsName, Hostname};
use brightharbor_core::site::{Zone, ZoneHome};
use brightharbor_core::zone::{
    AlterRequest, Alteration, Altered, Document, EditError, Record, RecordData, RecordType, alter, data_as_meant,
    owner_as_meant, parse_ttl, show_seconds,
};
use brightharbor_io::clock;
use brightharbor_io::dns::walk_within;
use brightharbor_io::harbor::Harbor;
use brightharbor_io::install::{read_if_there, replace_if_unchanged};
use brightharbor_io::survey::brief;
use clap::Args;
use jiff::civil::Date;
use serde_json::{Value, json};

use super::elsewhere::Elsewhere;
use crate::commands::{Report, hostname};
use crate::error::{Error, Exit};
use crate::options::ChangeOptions;
use crate::run::{Changed, Context, Decision, change};
use crate::show::human::{self, Page};
use crate::show::{Shown, json};

/// Where the zone is.
#[derive(Debug, Args)]
pub struct Where {
    /// The zone of this harbor; not needed where the owner is a full name.
    #[arg(long, value_name = "ZONE", conflicts_with_all = ["file", "origin"])]
    zone: Option<String>,
    /// A master file anywhere, instead of a zone of the harbor.
    #[arg(long, value_name = "FILE", requires = "origin")]
    file: Option<PathBuf>,
    /// The name of the zone in that file.
    #[arg(long, value_name = "NAME", requires = "file")]
    origin: Option<DnsName>,
}

/// The world is looked at beside the edit; where it does not answer, the edit does not wait for it.
const LOOK_AT_DELEGATION: Duration = Duration::from_secs(5);

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
    pub place: Where,
    #[command(flatten)]
    pub options: ChangeOptions,
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
    place: &Where,
    options: &ChangeOptions,
    context: &Context,
    make: impl FnOnce(Vec<RecordData>) -> Alteration,
) -> Report {
    match (&place.file, &place.origin) {
        (Some(file), Some(origin)) => in_file(asked, file, origin, options, make),
        _ => in_harbor(asked, place, options, context, make),
    }
}

fn today() -> Date {
    clock::now().to_zoned(jiff::tz::TimeZone::UTC).date()
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

fn read_zone(path: &std::path::Path, origin: &DnsName) -> Result<(Vec<u8>, Document), Error> {
    let shown = path.display();
    let bytes = read_if_there(path)?
        .ok_or_else(|| Error::refused("zone-file-gone", format!("there is no file {shown}")).advice("mend the path"))?;
    let document = Document::parse(bytes.clone(), origin).map_err(|error| {
        Error::refused("zone-unreadable", format!("{shown}: {error}")).advice("mend that line of the file first")
    })?;
    Ok((bytes, document))
}

fn decide(document: &Document, request: &AlterRequest) -> Result<Altered, Error> {
    alter(document, request, today()).map_err(|error| {
        use brightharbor_core::zone::AlterRefused as Why;
        let (code, message) = match &error {
            Why::Breaks(finding) => (finding.code, error.to_string()),
            Why::Edit(EditError::BesideAlias { .. } | EditError::AliasBeside { .. }) => {
                ("alias-beside-data", format!("{error} (alias-beside-data)"))
            }
            Why::Edit(EditError::BelowDelegation { .. }) => {
                ("hidden-by-delegation", format!("{error} (hidden-by-delegation)"))
            }
            Why::Edit(EditError::Duplicate(_)) => ("duplicate", error.to_string()),
            Why::Edit(EditError::OutOfZone(..)) => ("out-of-zone", error.to_string()),
            _ => ("record", error.to_string()),
        };
        let advice = match &error {
            Why::Breaks(finding) => format!("{}; see `brightharbor explain {}`", finding.cure, finding.code),
            Why::NothingThere { .. } => "add it with `brightharbor record add`".into(),
            Why::NotThere { .. } => "name one of those".into(),
            Why::NothingNew => "nothing has to be done".into(),
            Why::Edit(_) => "the zone is as it was".into(),
        };
        Error::refused(code, message).advice(advice)
    })
}

fn in_file(
    asked: &Asked<'_>,
    file: &std::path::Path,
    origin: &DnsName,
    options: &ChangeOptions,
    make: impl FnOnce(Vec<RecordData>) -> Alteration,
) -> Report {
    let (request, said) = meant(asked, origin, make)?;
    let (before, document) = read_zone(file, origin)?;
    let altered = decide(&document, &request)?;
    let mut set = ChangeSet::new(format!("record {} {}", asked.verb, request.owner.bare()));
    let content = altered.zone.source().to_vec();
    set.file(FileWrite::new(file.to_path_buf(), Some(before.clone()), content.clone(), 0o644, Purpose::Loose));
    let done = !options.dry_run;
    if done {
        replace_if_unchanged(file, &before, &content)?;
    }
    let changed = Changed { set, said, entry: None };
    Ok(Box::new(RecordReport { verb: asked.verb, changed, altered, done, loaded: false }))
}

fn in_harbor(
    asked: &Asked<'_>,
    place: &Where,
    options: &ChangeOptions,
    context: &Context,
    make: impl FnOnce(Vec<RecordData>) -> Alteration,
) -> Report {
    let zone = find_zone(&context.open()?, asked, place)?;
    let (request, mut said) = meant(asked, &zone.name.dns_name(), make)?;
    if zone.home == ZoneHome::Elsewhere {
        return Ok(Box::new(Elsewhere::new(asked.verb, &zone, &request, said)));
    }
    context.progress.doing("asking who serves the zone");
    let elsewhere = context.block_on(delegated_elsewhere(&context.open()?, &zone))??;
    if let Some(elsewhere) = &elsewhere {
        said.insert(0, elsewhere.clone());
    }
    let title = format!("record {} {} {}", asked.verb, request.owner.bare(), request.record_type);
    let mut result = None;
    let changed = context.block_on(change(context, &title, options, |harbor, _| {
        let path = harbor.layout.zone_file(&zone.name);
        let (before, document) = read_zone(&path, &zone.name.dns_name())?;
        let altered = decide(&document, &request)?;
        let mut set = ChangeSet::new(&title);
        let purpose = Purpose::ZoneFile { zone: zone.name.clone() };
        set.file(FileWrite::new(path, Some(before), altered.zone.source(), 0o644, purpose));
        result = Some(altered);
        Ok(Decision { set, said })
    }))??;
    let altered = result.ok_or_else(|| Error::refused("record", "nothing was decided"))?;
    let done = changed.entry.is_some();
    Ok(Box::new(RecordReport { verb: asked.verb, changed, altered, done, loaded: done }))
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

/// The zone that is meant: as given, or the one that holds the owner. An owner need be no hostname (`_dmarc`).
fn find_zone(harbor: &Harbor, asked: &Asked<'_>, place: &Where) -> Result<Zone, Error> {
    let (shown, start) = match &place.zone {
        Some(zone) => {
            let name = hostname(zone)?;
            (name.to_string(), name.dns_name())
        }
        None => {
            let typed = asked.owner.trim();
            let bare = typed.split_once("://").map_or(typed, |(_, rest)| rest.split('/').next().unwrap_or_default());
            let name = DnsName::absolute(bare).map_err(|error| Error::wrong_use(format!("`{typed}`: {error}")))?;
            (typed.to_string(), name)
        }
    };
    for candidate in std::iter::successors(Some(start), DnsName::parent) {
        let Ok(name) = Hostname::parse(&candidate.bare()) else { continue };
        if let Some(zone) = harbor.store.zone(&name)? {
            return Ok(zone);
        }
    }
    Err(Error::refused("no-zone", format!("no zone of this harbor holds {shown}"))
        .advice("name the zone with --zone, or a master file with --file and --origin"))
}

struct RecordReport {
    verb: &'static str,
    changed: Changed,
    altered: Altered,
    done: bool,
    /// Whether a server has been seen to answer with it.
    loaded: bool,
}

impl Shown for RecordReport {
    fn human(&self, page: &mut Page) {
        for said in &self.changed.said {
            page.hanging("note: ", said);
        }
        if !self.done {
            page.line("Nothing was done. This would be changed:");
        }
        human::diff(&self.changed.set).lines().skip(2).for_each(|line| page.line(line));
        for finding in &self.altered.findings {
            let prefix = format!("{}: ", finding.severity.word());
            page.hanging(&prefix, &format!("{} ({})", finding.message, finding.code));
        }
        if self.loaded {
            let for_how_long = show_seconds(self.altered.old_answers_for.into());
            page.hanging("", &format!("Loaded. Resolvers may give the old answer for {for_how_long} from now."));
        }
    }

    fn json(&self) -> Value {
        let shown = |records: &[Record]| records.iter().map(Record::to_string).collect::<Vec<_>>();
        json!({
            "command": format!("record {}", self.verb),
            "carried_out": self.done,
            "change": json::ChangeDocument::from(&self.changed),
            "removed": shown(&self.altered.removed),
            "added": shown(&self.altered.added),
            "serial": self.altered.zone.soa().serial,
            "old_answers_for": self.altered.old_answers_for,
            "findings": self.altered.findings.iter().map(json::FindingDocument::from).collect::<Vec<_>>(),
        })
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}

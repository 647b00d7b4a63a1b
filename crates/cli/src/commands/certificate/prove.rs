//! `certificate prove`: what a seller of certificates wants to see, put in place, looked at as the seller does, and
//! taken away again.

use std::io::Read;
use std::path::{Path, PathBuf};

use brightharbor_core::certificate::{Demand, DemandError, DemandedProof, MOST_CONTENT, USUAL_FOLDER};
use clap::Args;
use jiff::{SignedDuration, Timestamp};

use super::list::site_of;
use super::proven::Proven;
use crate::commands::record::watch::WatchOption;
use crate::commands::{Report, host};
use crate::demands::{handed_over, look, put_in_place, take_away};
use crate::duration::end_of_day;
use crate::error::Error;
use crate::options::ChangeOptions;
use crate::run::{Context, change};
use crate::site_change::until_served;

/// What sellers make up for a demand is good for so long (CA/Browser Forum Baseline Requirements, section 3.2.2.4).
const USUAL_DAYS: i64 = 30;

/// Put in place what a seller of certificates wants to see before it sells one: a file at a path, or a record. Without
/// either, put back what has gone meanwhile, and look again. It is taken away when the certificate is imported.
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
        read_some(path).map(|content| (path, content)).map_err(|error| {
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
            let proof = DemandedProof::file(&at, content).map_err(wrong)?;
            new.push(Demand { until, proof });
        }
        for typed in &args.record {
            let meant = DemandedProof::record(typed, &before).map_err(wrong)?;
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

/// No more of a file than tells that it is too large.
fn read_some(path: &Path) -> std::io::Result<Vec<u8>> {
    let mut content = Vec::new();
    std::fs::File::open(path)?.take(MOST_CONTENT as u64 + 1).read_to_end(&mut content)?;
    Ok(content)
}

fn wrong(error: DemandError) -> Error {
    use DemandError as Wrong;
    let advice = match &error {
        Wrong::Empty | Wrong::TooLarge | Wrong::NoText => "give the file as the seller gave it, with --file",
        Wrong::Nameless => "have the seller look at a file: --file FILE --at PATH",
        Wrong::NoRecord(_) | Wrong::OtherType(_) | Wrong::OtherDomain { .. } | Wrong::Typed(_) => {
            "give the record as the seller gave it, as in --record \"_5f3a CNAME 9c1e.seller.example.\""
        }
        _ => "name the path that the seller looks at, as in --at /.well-known/pki-validation/8F2C.txt",
    };
    Error::wrong_use(&error).advice(advice)
}

fn in_days(now: Timestamp, days: i64) -> Timestamp {
    now.checked_add(SignedDuration::from_hours(24 * days)).unwrap_or(now)
}

//! `certificate prove`: what a seller of certificates wants to see, put in place, looked at as the seller does, and
//! taken away again.

use std::path::{Path, PathBuf};

use brightharbor_core::certificate::{CertificateRefusal, Demand, DemandedProof, MOST_CONTENT, USUAL_FOLDER};
use brightharbor_core::change::Remark;
use brightharbor_core::site::Site;
use brightharbor_io::install::read_at_most;
use brightharbor_io::secure::{handed_over, look_at_demands};
use clap::Args;
use jiff::{SignedDuration, Timestamp};

use super::proven::Proven;
use crate::commands::{Report, find_site, host};
use crate::demanding::with_demands;
use crate::duration::end_of_day;
use crate::error::Error;
use crate::options::{ChangeOptions, WatchOption};
use crate::run::{Context, change, until_served};

/// What sellers make up for a demand is good for so long (CA/Browser Forum Baseline Requirements, section 3.2.2.4).
const USUAL_DAYS: i64 = 30;

/// Publish the file or DNS record that a certificate seller asks for. Without either, restore what is missing and check
/// again. It is removed when the certificate is imported.
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
        read_at_most(path, MOST_CONTENT + 1).map(|content| (path, content)).map_err(|error| {
            Error::refused("file", format!("{}: {error}", path.display())).advice("give the file that the seller gave")
        })
    });
    let file = file.transpose()?;
    let title = format!("certificate prove {name}");
    let (carried, site) = change(context, &title, &args.options, async |overlay, now| {
        let before = find_site(overlay, &name)?;
        let (new, taken) = demanded(args, file.as_ref(), &before, until.unwrap_or_else(|| in_days(now, USUAL_DAYS)))?;
        let after = if args.remove { before.demanding_only(|_| false) } else { before.demanding(new) };
        let mut plan = with_demands(overlay, before, &after, &title, now).await?;
        plan.remarks.splice(0..0, taken.into_iter().map(Remark::Taken));
        Ok((plan, after))
    })
    .await?;
    let harbor = context.open()?;
    let handed_over = handed_over(&harbor, &site)?;
    let done = carried.is_done();
    let mut seen = Vec::new();
    if done {
        until_served(context, &carried).await?;
        seen = context.work(async |door| look_at_demands(door, &harbor, &site, patience).await).await?;
    }
    let removed = args.remove;
    Ok(Box::new(Proven { carried, site, seen, handed_over, removed, asked: done }))
}

/// What was asked for, as demands; and what was made of what was typed.
fn demanded(
    args: &Prove,
    file: Option<&(&Path, Vec<u8>)>,
    site: &Site,
    until: Timestamp,
) -> Result<(Vec<Demand>, Vec<String>), CertificateRefusal> {
    let (mut new, mut taken) = (Vec::new(), Vec::new());
    if let Some((path, content)) = file {
        let at = match (&args.at, path.file_name()) {
            (Some(at), _) => at.clone(),
            (None, named) => format!("{USUAL_FOLDER}{}", named.unwrap_or_default().to_string_lossy()),
        };
        let proof = DemandedProof::file(&at, content).map_err(CertificateRefusal::Demand)?;
        new.push(Demand { until, proof });
    }
    for typed in &args.record {
        let meant = DemandedProof::record(typed, site).map_err(CertificateRefusal::Demand)?;
        taken.extend(meant.said);
        new.push(Demand { until, proof: meant.value });
    }
    Ok((new, taken))
}

fn in_days(now: Timestamp, days: i64) -> Timestamp {
    now.checked_add(SignedDuration::from_hours(24 * days)).unwrap_or(now)
}

//! `certificate list`: every certificate with its state and the days left, and which hostnames none of them covers. For
//! monitoring: an exit code, and a file of metrics.

use std::path::PathBuf;

use brightharbor_core::acme::identifiers;
use brightharbor_core::certificate::{Certificate, CertificateSource, CertificateState};
use brightharbor_core::name::Host;
use brightharbor_io::clock;
use brightharbor_io::install::write_atomically;
use clap::Args;
use jiff::Timestamp;
use serde_json::{Value, json};

use super::list_former;
use super::metrics::metrics;
use super::rows::{Row, days_left};
use crate::commands::{Report, find_account};
use crate::error::Exit;
use crate::narrowed::WithText;
use crate::run::Context;
use crate::show::human::{Page, list};
use crate::show::words::host_words;
use crate::show::{Shown, counted};

/// List the certificates. Ends with 1 if one has expired or is revoked, with 3 if one expires soon, is a stop-gap, is not
/// verified yet, is still to be revoked, or a hostname has none.
#[derive(Debug, Args)]
pub struct List {
    /// Only those of this account's sites.
    #[arg(long, value_name = "ACCOUNT")]
    account: Option<String>,
    /// Only those that expire within so many days.
    #[arg(long, value_name = "DAYS")]
    expiring: Option<i64>,
    /// One line a hostname: which certificate covers it, or why none does.
    #[arg(long)]
    coverage: bool,
    /// The certificates that were in place before, and those that were laid aside.
    #[arg(long, conflicts_with_all = ["expiring", "coverage", "metrics"])]
    former: bool,
    /// The requests whose certificate has not come, and the orders that are under way, with their age.
    #[arg(long, conflicts_with_all = ["expiring", "coverage", "metrics", "former"])]
    under_way: bool,
    /// Write the state to this file, in the text format of Prometheus, for a collector that reads files.
    #[arg(long, value_name = "FILE")]
    metrics: Option<PathBuf>,
    #[command(flatten)]
    with: WithText,
}

pub fn run(args: &List, context: &Context) -> Report {
    let harbor = context.open()?;
    let account = args.account.as_deref().map(|typed| find_account(&harbor, typed)).transpose()?;
    let of_account = account.as_ref().map(|account| &account.name);
    if args.former {
        return list_former::former(&args.with, of_account, context);
    }
    if args.under_way {
        return list_former::still_under_way(&args.with, of_account, context);
    }
    let now = clock::now();
    let mut rows = Row::read_all(&harbor, account.as_ref().map(|account| &account.name))?;
    if let Some(path) = &args.metrics {
        write_atomically(path, metrics(&rows, now).as_bytes(), 0o644)?;
    }
    if let Some(days) = args.expiring {
        rows.retain(|row| row.certificate.as_ref().is_some_and(|certificate| days_left(certificate, now) <= days));
    }
    let of = harbor.store.count_all_sites()?;
    let mut rows = args.with.narrow(rows, of, |row| row.texts(now)).rows;
    let shown = |site: &Host| rows.iter().any(|row| row.site.main() == site);
    let to_revoke = harbor.store.revocations()?.into_iter().map(|one| one.site).filter(shown).collect();
    rows.sort_by_key(|row| {
        let end = row.certificate.as_ref().map(|certificate| certificate.not_after);
        (end.is_none(), end)
    });
    Ok(Box::new(Certificates { rows, of, now, coverage: args.coverage, soon: args.expiring, to_revoke }))
}

impl Row {
    /// What it is found by: the line, and each name in full.
    fn texts(&self, now: Timestamp) -> Vec<String> {
        let names = self.site.hostnames.iter().map(ToString::to_string);
        let covered = self.certificate.iter().flat_map(names_of);
        self.cells(now).into_iter().chain(names).chain(covered).collect()
    }

    fn cells(&self, now: Timestamp) -> Vec<String> {
        let Some(certificate) = &self.certificate else {
            let why = if self.waits { "waits for its links" } else { "none" };
            let empty = String::new;
            return vec![host_words(self.site.main()), empty(), why.into(), empty(), empty(), empty()];
        };
        let names = counted(names_of(certificate).len(), "name");
        vec![
            host_words(self.site.main()),
            self.source_words(certificate),
            certificate.state.word().to_string(),
            left_words(certificate, now),
            self.served_at.join(", "),
            match self.uncovered().len() {
                0 => names,
                holes => format!("{names}, {holes} not covered"),
            },
        ]
    }

    /// With what was wished for and could not be had.
    fn source_words(&self, certificate: &Certificate) -> String {
        let wish = &self.site.rules.certificate;
        let mut words = source_words(certificate);
        if let Some(wished) = wish.withdrawn(&certificate.details) {
            words.push_str(&format!(", without profile {wished}"));
        }
        if wish.stapled && certificate.details.unstapled {
            words.push_str(", without staple");
        }
        words
    }

    fn cover_words(&self, hostname: &Host, now: Timestamp) -> String {
        match &self.certificate {
            Some(certificate) if certificate.covers(hostname) => covered_by(certificate, now),
            Some(_) if self.waits => "not covered: waits for its links".into(),
            Some(_) => "not covered by the site's certificate".into(),
            None if self.waits => "none: waits for its links".into(),
            None => "none".into(),
        }
    }
}

fn covered_by(certificate: &Certificate, now: Timestamp) -> String {
    format!("{} certificate of {}, {}", source_words(certificate), certificate.site, left_words(certificate, now))
}

/// Where it comes from; a CA beside that of `[ca]` with its name.
fn source_words(certificate: &Certificate) -> String {
    let source = match &certificate.details.ca {
        Some(name) if certificate.source == CertificateSource::Ca => format!("CA {name}"),
        _ => certificate.source.words().to_string(),
    };
    let source = match &certificate.details.profile {
        Some(profile) => format!("{source}, profile {profile}"),
        None => source,
    };
    if certificate.files.is_stapled() { format!("{source}, stapled") } else { source }
}

/// The names that it was made for, a wildcard as such.
fn names_of(certificate: &Certificate) -> Vec<String> {
    identifiers(&certificate.names, &certificate.details.wildcards).iter().map(ToString::to_string).collect()
}

fn left_words(certificate: &Certificate, now: Timestamp) -> String {
    match days_left(certificate, now) {
        past if past < 0 => format!("expired {} ago", counted(past.unsigned_abs() as usize, "day")),
        left => format!("{} left", counted(left as usize, "day")),
    }
}

struct Certificates {
    rows: Vec<Row>,
    /// How many sites there are without any filter.
    of: usize,
    now: Timestamp,
    coverage: bool,
    /// So many days are soon, if somebody has said so.
    soon: Option<i64>,
    /// The sites that had a certificate which the CA was not told to revoke yet.
    to_revoke: Vec<Host>,
}

impl Certificates {
    fn holes(&self) -> usize {
        self.rows.iter().map(|row| row.uncovered().len()).sum()
    }

    fn past(&self) -> usize {
        let certificates = self.rows.iter().filter_map(|row| row.certificate.as_ref());
        certificates.filter(|certificate| certificate.not_after <= self.now).count()
    }

    /// Those that have not expired yet, and will soon.
    fn ending(&self) -> usize {
        let certificates = self.rows.iter().filter_map(|row| row.certificate.as_ref());
        let soon = |one: &&Certificate| match self.soon {
            Some(soon) => one.not_after > self.now && days_left(one, self.now) < soon,
            None => one.runs_out_soon(self.now),
        };
        certificates.filter(soon).count()
    }

    fn stop_gaps(&self) -> usize {
        let certificates = self.rows.iter().filter_map(|row| row.certificate.as_ref());
        certificates.filter(|certificate| certificate.source == CertificateSource::SelfSigned).count()
    }

    fn in_state(&self, state: CertificateState) -> usize {
        let certificates = self.rows.iter().filter_map(|row| row.certificate.as_ref());
        certificates.filter(|certificate| certificate.state == state).count()
    }

    fn headline(&self) -> String {
        let certificates = self.rows.iter().filter(|row| row.certificate.is_some()).count();
        let mut parts = vec![counted(certificates, "certificate")];
        let (past, ending) = (self.past(), self.ending());
        if past > 0 {
            parts.push(format!("{past} expired"));
        }
        match (ending, self.soon) {
            (0, _) => {}
            (_, Some(days)) => {
                parts.push(format!("{ending} within {}", counted(days.unsigned_abs() as usize, "day")));
            }
            (1, None) => parts.push("1 expires soon".into()),
            (_, None) => parts.push(format!("{ending} expire soon")),
        }
        for (state, words) in
            [(CertificateState::Revoked, "revoked"), (CertificateState::Installed, "installed and not verified yet")]
        {
            match self.in_state(state) {
                0 => {}
                count => parts.push(format!("{count} {words}")),
            }
        }
        if !self.to_revoke.is_empty() {
            parts.push(format!("{} still to be revoked", self.to_revoke.len()));
        }
        match self.stop_gaps() {
            0 => {}
            1 => parts.push("1 is a self-signed stop-gap".into()),
            count => parts.push(format!("{count} are self-signed stop-gaps")),
        }
        match self.holes() {
            0 => parts.push("every hostname is covered".into()),
            holes => parts.push(format!("{} not covered", counted(holes, "hostname"))),
        }
        parts.join(", ")
    }
}

impl Shown for Certificates {
    fn human(&self, page: &mut Page) {
        if self.rows.is_empty() {
            return page.line("No certificate matches.");
        }
        page.heading(&self.headline());
        page.blank();
        if self.coverage {
            let rows = self.rows.iter().flat_map(|row| {
                let named =
                    row.site.hostnames.iter().map(|name| vec![name.to_string(), row.cover_words(name, self.now)]);
                let wildcards = row.certificate.iter().flat_map(|certificate| {
                    let words = covered_by(certificate, self.now);
                    certificate.details.wildcards.iter().map(move |parent| vec![format!("*.{parent}"), words.clone()])
                });
                named.chain(wildcards)
            });
            return list(page, &["hostname", "certificate"], rows.collect());
        }
        let rows = self.rows.iter().map(|row| row.cells(self.now));
        list(page, &["site", "source", "state", "time", "at", "covers"], rows.collect());
        if self.rows.len() < self.of {
            page.blank();
            page.line(&format!("{} of {} are listed.", self.rows.len(), counted(self.of, "site")));
        }
    }

    fn json(&self) -> Value {
        let row = |row: &Row| {
            json!({
                "site": row.site.main(),
                "account": row.site.account,
                "email": row.email,
                "hostnames": row.site.hostnames,
                "source": row.certificate.as_ref().map(|certificate| certificate.source),
                "state": row.certificate.as_ref().map(|certificate| certificate.state.word()),
                "ca": row.certificate.as_ref().and_then(|certificate| certificate.details.ca.as_ref()),
                "profile": row.certificate.as_ref().and_then(|certificate| certificate.details.profile.as_ref()),
                "stapled": row.certificate.as_ref().is_some_and(|certificate| certificate.files.is_stapled()),
                "names": row.certificate.as_ref().map(names_of),
                "not_after": row.certificate.as_ref().map(|certificate| certificate.not_after.to_string()),
                "days_left": row.certificate.as_ref().map(|certificate| days_left(certificate, self.now)),
                "served_at": row.served_at,
                "uncovered": row.uncovered(),
                "waiting": row.waits,
            })
        };
        json!({
            "command": "certificate list",
            "certificates": self.rows.iter().map(row).collect::<Vec<_>>(),
            "to_revoke": self.to_revoke,
            "shown": self.rows.len(),
            "of": self.of,
        })
    }

    fn exit(&self) -> Exit {
        match (self.past(), self.ending(), self.holes()) {
            (1.., ..) => Exit::Fault,
            _ if self.in_state(CertificateState::Revoked) > 0 => Exit::Fault,
            (0, 0, 0) if self.stop_gaps() + self.in_state(CertificateState::Installed) + self.to_revoke.len() == 0 => {
                Exit::Done
            }
            _ => Exit::Waits,
        }
    }
}

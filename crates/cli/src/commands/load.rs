//! `load`: what is to be in the harbor, from one file; and such a file from the harbor.

use std::path::{Path, PathBuf};

use brightharbor_core::listing::{Counts, Listing, listing_of};
use brightharbor_io::load;
use brightharbor_io::overlay::{Answers, Overlay};
use clap::Args;
use serde_json::{Value, json};

use crate::commands::Report;
use crate::error::{Error, Exit};
use crate::files;
use crate::loading::{Loading, decide};
use crate::options::ChangeOptions;
use crate::run::{Carried, Context, change, until_served};
use crate::show::human::{Page, change_report};
use crate::show::{Shown, counted, json};

/// Make the harbor have what a file lists: plans, accounts, sites, redirects and records, by one change.
///
/// What already exists stays, and nothing is removed unless the file says that one of its tables is whole. docs/listing.md
/// has the form. With --write, such a file is written of what is here.
#[derive(Debug, Args)]
pub struct Load {
    /// The file, in TOML; one that ends in .csv has a hostname and an account in each line. `-` for standard input.
    #[arg(required_unless_present = "write")]
    file: Option<PathBuf>,
    /// Write what is in this harbor to a new file.
    #[arg(long, value_name = "FILE", conflicts_with_all = ["file", "dry_run", "yes"])]
    write: Option<PathBuf>,
    #[command(flatten)]
    options: ChangeOptions,
}

/// More than so many remarks are counted, not listed.
const MOST_LISTED: usize = 60;

pub fn run(args: &Load, context: &Context) -> Report {
    if let Some(to) = &args.write {
        return write(to, context);
    }
    let file = args.file.clone().unwrap_or_default();
    let listing = read(&file)?;
    let title = format!("load {}", file.display());
    context.block_on(async {
        let (carried, loading) = change(context, &title, &args.options, async |overlay, now| {
            let Loading { plan, compared, records } = decide(overlay, &listing, &title, now).await?;
            Ok((plan, (compared, records)))
        })
        .await?;
        until_served(context, &carried).await?;
        let (compared, records) = loading;
        let tables = [
            ("plans", "plan", compared.plans),
            ("accounts", "account", compared.accounts),
            ("nameserver_sets", "nameserver set", compared.nameserver_sets),
            ("sites", "site", compared.sites),
            ("redirects", "redirect", compared.redirects),
            ("records", "record", records),
        ];
        let later = compared.later.iter().map(ToString::to_string).collect();
        Ok::<_, Error>(Box::new(Loaded { carried, tables, later }) as Box<dyn Shown>)
    })?
}

fn read(file: &Path) -> Result<Listing, Error> {
    let path = if file == Path::new("-") { Path::new("/dev/stdin") } else { file };
    let advice = "give a file as docs/listing.md has it";
    let text = files::given_text(path, advice)?;
    let shown = file.display();
    if file.extension().is_some_and(|ending| ending.eq_ignore_ascii_case("csv")) {
        return Listing::from_csv(&text)
            .map_err(|error| Error::wrong_use(format!("{shown}:{}: {}", error.line, error.reason)).advice(advice));
    }
    toml::from_str(&text).map_err(|error| {
        let line = error.span().map_or(1, |span| 1 + text[..span.start].matches('\n').count());
        Error::wrong_use(format!("{shown}:{line}: {}", error.message())).advice(advice)
    })
}

fn write(to: &Path, context: &Context) -> Report {
    let to = files::new_file(to)?;
    let harbor = context.open()?;
    let answers = Answers::default();
    let overlay = Overlay::new(&harbor, &answers);
    let (present, records) = (load::present(&overlay, None)?, context.block_on(load::listed_records(&overlay))??);
    let listing = listing_of(&present, records);
    let text = toml::to_string(&listing).map_err(|error| Error::refused("save", error))?;
    let head = "# What this harbor has: `brightharbor load FILE` makes a harbor have it. Nothing is removed by it.\n\n";
    files::save(&to, &format!("{head}{text}"))?;
    Ok(Box::new(Listed { to, listing }))
}

struct Loaded {
    carried: Carried,
    tables: [(&'static str, &'static str, Counts); 6],
    /// Sites that get HSTS by the same file once they are secure.
    later: Vec<String>,
}

impl Shown for Loaded {
    fn human(&self, page: &mut Page) {
        let would = self.carried.entry.is_none() && !self.carried.plan.is_empty();
        let listed = |of: fn(&Counts) -> usize| {
            let counts =
                self.tables.iter().map(|(_, thing, counts)| (of(counts), thing)).filter(|(count, _)| *count > 0);
            let words: Vec<String> = counts.map(|(count, thing)| counted(count, thing)).collect();
            (!words.is_empty()).then(|| words.join(", "))
        };
        let [add, change, remove] = if would { ["add", "change", "remove"] } else { ["added", "changed", "removed"] };
        let done = [
            (add, listed(|counts| counts.added)),
            (change, listed(|counts| counts.changed)),
            (remove, listed(|counts| counts.gone)),
        ];
        let done = done.into_iter().filter_map(|(verb, words)| words.map(|words| format!("{verb} {words}")));
        let same = listed(|counts| counts.same);
        let head = match (done.collect::<Vec<_>>().join("; "), &same) {
            (done, Some(same)) if done.is_empty() => format!("All is as listed: {same}."),
            (done, None) if done.is_empty() => "The file lists nothing.".into(),
            (done, _) if would => format!("Would {done}."),
            (done, _) => format!("{}{}.", done[..1].to_uppercase(), &done[1..]),
        };
        page.heading(&head);
        if let Some(same) = same.filter(|_| !self.carried.plan.is_empty()) {
            page.hanging("  ", &format!("as listed already: {same}"));
        }
        match self.carried.plan.remarks.len() {
            _ if self.carried.plan.is_empty() => {}
            ..=MOST_LISTED => {
                page.blank();
                change_report(page, &self.carried);
            }
            _ if would => page.line("Dry run: nothing was changed. --json has every change."),
            _ => {}
        }
        for site in &self.later {
            page.hanging(
                "note: ",
                &format!("{site}: HSTS is set once it is served over https; give the command again then"),
            );
        }
        if self.carried.entry.is_some() {
            page.hanging("next: ", "brightharbor tend gets certificates; brightharbor survey --all shows the links");
        }
    }

    fn json(&self) -> Value {
        let counts = |counts: &Counts| {
            let Counts { added, changed, same, gone } = counts;
            json!({ "added": added, "changed": changed, "same": same, "removed": gone })
        };
        let tables = self.tables.iter().map(|(name, _, of)| (name.to_string(), counts(of)));
        json!({
            "command": "load",
            "tables": serde_json::Map::from_iter(tables),
            "hsts_later": self.later,
            "change": json::ChangeDocument::from(&self.carried),
        })
    }

    fn exit(&self) -> Exit {
        let done = if self.carried.entry.is_some() && !self.later.is_empty() { Exit::Waits } else { Exit::Done };
        self.carried.exit(done)
    }
}

struct Listed {
    to: PathBuf,
    listing: Listing,
}

impl Listed {
    fn counts(&self) -> [(&'static str, usize); 6] {
        let Listing { plans, accounts, nameserver_sets, sites, redirects, records, .. } = &self.listing;
        [
            ("plan", plans.len()),
            ("account", accounts.len()),
            ("nameserver set", nameserver_sets.len()),
            ("site", sites.len()),
            ("redirect", redirects.len()),
            ("record", records.len()),
        ]
    }
}

impl Shown for Listed {
    fn human(&self, page: &mut Page) {
        let counts = self.counts().map(|(thing, count)| counted(count, thing)).join(", ");
        page.heading(&format!("Wrote {}: {counts}.", self.to.display()));
        page.line("Not in it: certificates and keys, passwords of protected paths, harbor.toml.");
    }

    fn json(&self) -> Value {
        let counts = self.counts().map(|(thing, count)| (format!("{}s", thing.replace(' ', "_")), Value::from(count)));
        json!({
            "command": "load",
            "written": self.to.display().to_string(),
            "tables": serde_json::Map::from_iter(counts),
        })
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}

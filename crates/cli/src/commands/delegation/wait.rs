//! `delegation wait`: asks again until the delegation is as it should be, or its time is over.

use std::time::Duration;

use brightharbor_core::delegation::{Arrival, Has, Verdict, arrivals};
use brightharbor_core::name::{DnsName, Hostname};
use brightharbor_core::zone::show_seconds;
use brightharbor_io::clock;
use brightharbor_io::dns::Walker;
use clap::Args;
use futures_util::{StreamExt, stream};
use serde_json::{Value, json};
use tokio::time::{Instant, sleep};

use super::chosen::ChosenOptions;
use crate::commands::Report;
use crate::duration::parse_duration;
use crate::error::{Error, Exit};
use crate::judging::{Checked, Judge};
use crate::network::{Network, NetworkOptions};
use crate::run::Context;
use crate::show::human::{self, Page, when};
use crate::show::{Shown, counted, json};

/// Wait until domains are delegated as they should be. Ends with 0 when they are, with 3 when the time is over.
#[derive(Debug, Args)]
pub struct Wait {
    #[command(flatten)]
    chosen: ChosenOptions,
    #[command(flatten)]
    network: NetworkOptions,
    /// A nameserver that the domain should be delegated to; by default those of the harbor.
    #[arg(long = "expect", value_name = "NAME")]
    expect: Vec<DnsName>,
    /// For how long (seconds, or as 30m or 1d).
    #[arg(long = "for", value_name = "DURATION", default_value = "1h")]
    duration: String,
}

/// Registries publish every few minutes: asking more often tells nothing new. At first a change may be there at once.
const PAUSES: [u64; 5] = [2, 5, 10, 20, 30];
const PAUSE: u64 = 60;

pub fn run(args: &Wait, context: &Context) -> Report {
    let longest = parse_duration(&args.duration, "give it as 30m, 6h or 1d")?;
    let network = args.network.network(context)?;
    let mut chosen = args.chosen.choose(network.harbor.as_ref())?;
    context.block_on(chosen.place_by_asking(&network, args.network.per_server))??;
    let judge = Judge::new(&network, &args.expect)?;
    let began = Instant::now();
    let checked =
        context.block_on(wait(&chosen.domains, &network, &judge, longest, args.network.per_server, context))??;
    Ok(Box::new(Waited { said: chosen.said, checked, seconds: began.elapsed().as_secs() }))
}

/// Domains that are asked about together.
const AT_ONCE: usize = 48;

/// Whether there is nothing left to wait for: risks stay however long one waits, and every server of the parent has it.
fn holds(checked: &Checked) -> bool {
    matches!(checked.verdict, Verdict::Well | Verdict::Risks(_)) && !arrived(checked).iter().any(|one| one.has.lags())
}

fn arrived(checked: &Checked) -> Vec<Arrival> {
    arrivals(&checked.picture, &checked.wanted.nameservers)
}

async fn wait(
    domains: &[Hostname],
    network: &Network,
    judge: &Judge<'_>,
    longest: Duration,
    per_server: u32,
    context: &Context,
) -> Result<Vec<Checked>, Error> {
    let deadline = Instant::now() + longest;
    let mut pauses = PAUSES.iter().copied().chain(std::iter::repeat(PAUSE));
    let mut done: Vec<Checked> = Vec::new();
    let mut open = domains.to_vec();
    loop {
        // Nothing is remembered from the round before: what changed above is to be seen too.
        let walker = Walker::new(per_server).await;
        let mut still = Vec::new();
        context.progress.doing(&format!("asking the servers of {}", counted(open.len(), "domain")));
        let briefs = open.iter().map(|domain| network.brief(domain)).collect::<Result<Vec<_>, _>>()?;
        let mut walks = stream::iter(briefs).map(|brief| walker.walk(brief)).buffered(AT_ONCE);
        for domain in std::mem::take(&mut open) {
            let Some(walked) = walks.next().await else { break };
            let checked = judge.judge(walked.picture)?;
            if holds(&checked) {
                done.push(checked);
            } else {
                open.push(domain);
                still.push(checked);
            }
        }
        let left = deadline.saturating_duration_since(Instant::now());
        if open.is_empty() || left.is_zero() {
            done.extend(still);
            return Ok(done);
        }
        let bound = still.iter().filter_map(|one| match one.verdict {
            Verdict::Waiting(until) => Some(until),
            _ => None,
        });
        let bound = bound.max().map(|until| format!(", at the latest until {}", when(until, clock::now())));
        let names = open.iter().map(Hostname::as_str).take(3).collect::<Vec<_>>().join(", ");
        context.progress.doing(&format!("waiting for {names}{}", bound.unwrap_or_default()));
        sleep(Duration::from_secs(pauses.next().unwrap_or(PAUSE)).min(left)).await;
    }
}

struct Waited {
    said: Vec<String>,
    checked: Vec<Checked>,
    /// For how long it was waited.
    seconds: u64,
}

impl Waited {
    /// How it ended, before what was seen.
    fn ended(&self) -> String {
        let (all, after) = (self.checked.len(), show_seconds(self.seconds));
        match self.checked.iter().filter(|one| !holds(one)).count() {
            0 if self.seconds == 0 => "Delegated as wanted: nothing had to be waited for.".into(),
            0 => format!("Delegated as wanted, after {after}."),
            _ if all == 1 => format!("The time is over: after {after} it is not delegated as wanted."),
            open => format!("The time is over: after {after}, {open} of {all} domains are not delegated as wanted."),
        }
    }
}

/// Which servers of the parent have it, in a sentence; none where the parent has no delegation at all.
fn parents_words(checked: &Checked) -> Option<String> {
    let arrived = arrived(checked);
    let having: Vec<String> =
        arrived.iter().filter(|one| one.has == Has::Wanted).map(|one| one.server.to_string()).collect();
    let mut words = match (having.len(), arrived.len()) {
        (_, 0) => return None,
        (1, 1) => return Some("the server of the parent has it".into()),
        (0, 1) => "the server of the parent does not have it".into(),
        (all, count) if all == count => return Some(format!("all {count} servers of the parent have it")),
        (0, count) => format!("none of {count} servers of the parent has it"),
        (some, count) => format!("{some} of {count} servers of the parent have it ({})", having.join(", ")),
    };
    for Arrival { server, has } in &arrived {
        match has {
            Has::Wanted => {}
            Has::Other(names) => {
                let names = names.iter().map(DnsName::bare).collect::<Vec<_>>().join(", ");
                words.push_str(&format!("; {server} names {names}"));
            }
            Has::Nothing => words.push_str(&format!("; {server} says that there is no such domain")),
            Has::Unknown(why) => words.push_str(&format!("; {server} {why}")),
        }
    }
    Some(words)
}

fn parents_document(checked: &Checked) -> Vec<Value> {
    let document = |Arrival { server, has }: Arrival| {
        let (word, names) = match has {
            Has::Wanted => ("wanted", vec![]),
            Has::Other(names) => ("other", names.iter().map(DnsName::bare).collect()),
            Has::Nothing => ("nothing", vec![]),
            Has::Unknown(_) => ("unknown", vec![]),
        };
        json!({ "server": server.to_string(), "has": word, "other": names })
    };
    arrived(checked).into_iter().map(document).collect()
}

impl Shown for Waited {
    fn human(&self, page: &mut Page) {
        if !self.checked.is_empty() {
            page.heading(&self.ended());
            for one in &self.checked {
                if let Some(words) = parents_words(one) {
                    page.hanging("  ", &format!("{}: {words}", one.picture.domain.bare()));
                }
            }
            page.blank();
        }
        human::delegations(page, &self.said, &self.checked);
    }

    fn json(&self) -> Value {
        let parents = self.checked.iter().map(|one| (one.picture.domain.bare(), parents_document(one).into()));
        json!({
            "command": "delegation wait",
            "waited_seconds": self.seconds,
            "parent_servers": parents.collect::<serde_json::Map<String, Value>>(),
            "domains": self.checked.iter().map(json::DelegationDocument::from).collect::<Vec<_>>(),
        })
    }

    fn exit(&self) -> Exit {
        if self.checked.iter().all(holds) { Exit::Done } else { Exit::Waits }
    }
}

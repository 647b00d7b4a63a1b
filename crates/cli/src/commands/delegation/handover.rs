//! `delegation handover`: the text for whoever holds the login at the registrar.

use std::path::PathBuf;

use brightharbor_core::delegation::rules::Expected;
use brightharbor_core::delegation::{Ds, Handover, Outcome, Question, handover, unready};
use brightharbor_core::name::{DnsName, Hostname};
use brightharbor_core::zone::RecordType;
use brightharbor_io::clock;
use brightharbor_io::dns::{Walker, ask};
use brightharbor_io::load::{ask_next_servers, losses};
use clap::Args;
use serde_json::{Value, json};

use crate::commands::{Report, zone_name};
use crate::error::{Error, Exit};
use crate::files;
use crate::judging::Judge;
use crate::network::{Network, NetworkOptions};
use crate::run::Context;
use crate::show::Shown;
use crate::show::handover::{Form, Language, worded};
use crate::show::human::Page;

/// Write down what is to be done at the registrar, for whoever holds the login there.
#[derive(Debug, Args)]
pub struct HandoverArguments {
    /// The domain.
    domain: String,
    #[command(flatten)]
    network: NetworkOptions,
    /// A nameserver that the domain should be delegated to; by default those of the harbor.
    #[arg(long = "expect", value_name = "NAME")]
    expect: Vec<DnsName>,
    /// Write a page of HTML to this file.
    #[arg(long, value_name = "FILE")]
    html: Option<PathBuf>,
    /// The language of the text.
    #[arg(long, value_enum, default_value = "en")]
    lang: Language,
    /// Write it down even if records that the world has today would be lost with the move, or the new nameservers do not
    /// have the zone.
    #[arg(long)]
    yes: bool,
}

pub fn run(args: &HandoverArguments, context: &Context) -> Report {
    let domain = zone_name(&args.domain)?;
    let network = args.network.network(context)?;
    let judge = Judge::new(&network, &args.expect)?;
    context.progress.doing(&format!("looking how {domain} is delegated now"));
    let (checked, ours) = context.block_on(async {
        let walker = Walker::new(args.network.per_server).await;
        let walked = walker.walk(network.brief(&domain)?).await;
        Ok::<_, Error>((judge.judge(walked.picture)?, own_keys(&network, &domain.dns_name()).await))
    })??;
    if checked.wanted.nameservers.is_empty() {
        let message = format!("this harbor does not say to which nameservers {domain} should be delegated");
        return Err(Error::refused("nothing-expected", message)
            .advice("name them with --expect NAME, or keep the zone here: brightharbor zone create"));
    }
    let mut wanted = checked.wanted.nameservers.clone();
    wanted.sort();
    // Where nothing moves, nothing is lost by it.
    if !args.yes && checked.picture.delegated_names() != wanted {
        refuse_unready(&domain, &checked.wanted, &network, context)?;
        refuse_losses(&domain, &network, context)?;
    }
    let ttl = checked.picture.delegation().map_or(86_400, |answer| answer.ttl);
    let made = handover(&checked.picture, &checked.wanted, &ours);
    let expected: Vec<String> = checked.wanted.nameservers.iter().map(DnsName::bare).collect();
    if let Some(host) = made.hosts.iter().find(|host| host.addresses.is_empty()) {
        let message = format!("{} lies inside {domain}, and its addresses are not known here", host.name);
        return Err(Error::refused("no-glue", message).advice(
            "give them: brightharbor nameserver add SET NAME=ADDRESS..., or nameserver-addresses in harbor.toml",
        ));
    }
    if let Some(path) = &args.html {
        let page = worded(&made, &expected, ttl, args.lang, Form::Html);
        files::save(path, &page)?;
    }
    let text = worded(&made, &expected, ttl, args.lang, Form::Text);
    // A harbor that cannot be written to now is no reason to keep the page back.
    let noted = match &network.harbor {
        Some(harbor) if !made.done => {
            harbor.store.note_handover(&domain, &checked.wanted.nameservers, clock::now()).is_ok()
        }
        _ => false,
    };
    Ok(Box::new(Handed { made, text, html: args.html.clone(), noted }))
}

/// A domain does not move to nameservers that do not have its zone.
fn refuse_unready(domain: &Hostname, wanted: &Expected, network: &Network, context: &Context) -> Result<(), Error> {
    context.progress.doing(&format!("asking the nameservers that {domain} is to be delegated to"));
    let unready = unready(&context.block_on(ask_next_servers(&network.settings, &domain.dns_name(), wanted))?);
    if unready.is_empty() {
        return Ok(());
    }
    let message = format!("{domain} would move to nameservers that do not have its zone: {}", unready.join("; "));
    Err(Error::refused("nameserver-not-ready", message)
        .advice("publish the zone there first (brightharbor zone list, zone publish); if it is meant: --yes")
        .with("servers", unready))
}

/// Nobody is asked to move a domain whose mail or names would be lost. Where the zone is not kept here, or cannot be read,
/// there is nothing to compare.
fn refuse_losses(domain: &Hostname, network: &Network, context: &Context) -> Result<(), Error> {
    let Some(harbor) = &network.harbor else { return Ok(()) };
    context.progress.doing(&format!("comparing {domain} with what the world is answered"));
    // A zone that cannot be read is told by other commands.
    let lost = context.block_on(losses(harbor, domain))?.unwrap_or_default();
    if lost.is_empty() {
        return Ok(());
    }
    let message = format!("with the move, {domain} would lose or change what the world has today: {}", lost.join(", "));
    Err(Error::refused("would-lose-records", message)
        .advice(format!("see what it is: brightharbor zone compare {domain}; if it is meant: --yes"))
        .with("sets", lost))
}

/// The DS records of the zone as the server here has it; empty where it is not signed, or nobody serves it here.
async fn own_keys(network: &Network, domain: &DnsName) -> Vec<Ds> {
    let Some(server) = network.settings.dns.address else { return vec![] };
    let question = Question::authoritative(server, domain, RecordType::DNSKEY);
    match ask(&question).await.outcome {
        Outcome::Reply(reply) if reply.authoritative => {
            let keys = reply.answer.iter().filter_map(brightharbor_core::delegation::Key::of);
            keys.filter(|key| key.is_entry_point()).map(|key| key.ds(domain)).collect()
        }
        _ => vec![],
    }
}

struct Handed {
    made: Handover,
    text: String,
    html: Option<PathBuf>,
    /// Whether the harbor remembers that it was asked for.
    noted: bool,
}

impl Shown for Handed {
    fn human(&self, page: &mut Page) {
        match &self.html {
            Some(path) => page.line(&format!("The page for {} is written to {}.", self.made.domain, path.display())),
            None => self.text.trim_end().lines().for_each(|line| page.line(line)),
        }
    }

    fn json(&self) -> Value {
        json!({
            "command": "delegation handover",
            "domain": self.made.domain,
            "done": self.made.done,
            "keeper": self.made.keeper,
            "part": self.made.part,
            "present": self.made.present,
            "remove_ds": self.made.remove_ds,
            "wait_seconds": self.made.wait_seconds,
            "hosts": self.made.hosts.iter().map(|host| json!({
                "name": host.name,
                "addresses": host.addresses,
                "present": host.present,
            })).collect::<Vec<_>>(),
            "nameservers": self.made.nameservers,
            "add_ds": self.made.add_ds,
            "text": self.text,
            "noted": self.noted,
        })
    }

    fn exit(&self) -> Exit {
        if self.made.done { Exit::Done } else { Exit::Waits }
    }
}

//! `zone show`: everything that is known about one zone, on one page.

use std::collections::BTreeMap;
use std::path::PathBuf;

use brightharbor_core::delegation::rules::Expected;
use brightharbor_core::finding::{Finding, Severity};
use brightharbor_core::name::DnsName;
use brightharbor_core::zone::rules::judge_within;
use brightharbor_core::zone::{Pattern, RecordType, show_seconds};
use brightharbor_core::zone::{Zone, ZonePlace};
use brightharbor_io::clock;
use brightharbor_io::install::link_target;
use brightharbor_io::server::ask_serials;
use brightharbor_io::zones::read_zone;
use clap::Args;
use serde_json::{Value, json};

use super::signed::{SignedZone, seen_keys};
use super::source::find;
use crate::commands::Report;
use crate::error::Exit;
use crate::run::Context;
use crate::show::human::{Page, when};
use crate::show::{Shown, json};
use brightharbor_core::zone::{Holder, Holding, holders, newest_of};
use brightharbor_io::load::surroundings;
use brightharbor_io::look::expected;

/// Show one zone: where it is kept, what it was made from, who has which serial, what is wrong with it.
#[derive(Debug, Args)]
pub struct Show {
    /// The zone.
    zone: String,
}

pub fn run(args: &Show, context: &Context) -> Report {
    let harbor = context.open()?;
    let zone = find(&harbor, &args.zone)?;
    let kept = context.block_on(read_zone(&harbor, &zone))??;
    let serial = kept.document.soa().serial;
    let servers = holders(&harbor.settings, &zone);
    let questions = servers.iter().map(|holder| (holder.address, zone.name.clone())).collect();
    let serials = context.block_on(ask_serials(questions))?;
    let newest = newest_of(&zone, serial, &servers, &serials);
    let signed = match (&zone.signing, harbor.settings.dns.address) {
        (Some(signing), Some(server)) => Some(context.block_on(seen_keys(&harbor, &zone, &signing.policy, server))?),
        _ => None,
    };
    let held = servers.into_iter().map(|holder| {
        let holding = Holding::of(&holder, &zone.name, newest, &serials);
        (holder, holding)
    });
    let mut types: BTreeMap<RecordType, usize> = BTreeMap::new();
    for record in kept.document.records() {
        *types.entry(record.record_type()).or_default() += 1;
    }
    let link = match &kept.place {
        ZonePlace::File { path } => link_target(path),
        ZonePlace::Primary { .. } => None,
    };
    let place = match &kept.place {
        ZonePlace::File { path } => path.display().to_string(),
        ZonePlace::Primary { server, .. } => format!("changed by UPDATE at {server}"),
    };
    Ok(Box::new(ZonePage {
        held: held.collect(),
        types,
        place,
        link,
        signed,
        serial,
        pattern: zone.pattern.as_deref().map(|key| harbor.store.pattern(key)).transpose()?.flatten(),
        wanted: expected(&harbor, &zone.name)?,
        findings: judge_within(&kept.document, &surroundings(&harbor, &zone)?),
        zone,
    }))
}

struct ZonePage {
    zone: Zone,
    place: String,
    /// Where the file lies that a link leads to.
    link: Option<PathBuf>,
    signed: Option<SignedZone>,
    serial: u32,
    types: BTreeMap<RecordType, usize>,
    pattern: Option<Pattern>,
    wanted: Expected,
    held: Vec<(Holder, Holding)>,
    findings: Vec<Finding>,
}

impl ZonePage {
    fn findings_words(&self) -> String {
        let count = |severity: Severity| self.findings.iter().filter(|finding| finding.severity == severity).count();
        let all = [Severity::Fault, Severity::Risk, Severity::Note].map(|severity| (count(severity), severity.word()));
        let plural = |count: usize| if count == 1 { "" } else { "s" };
        let some = all.iter().filter(|(count, _)| *count > 0);
        let words: Vec<String> = some.map(|(count, word)| format!("{count} {word}{}", plural(*count))).collect();
        match words.is_empty() {
            true => "none".into(),
            false => format!("{}: see `brightharbor zone check {}`", words.join(", "), self.zone.name),
        }
    }
}

impl Shown for ZonePage {
    fn human(&self, page: &mut Page) {
        let records: usize = self.types.values().sum();
        let (name, home) = (&self.zone.name, self.zone.home.words());
        page.heading(&format!("{name}: kept {home}, serial {}, {records} records", self.serial));
        let mut field = |name: &str, text: &str| page.hanging(&format!("  {name:<14}"), text);
        field("account", self.zone.account.as_str());
        match &self.link {
            Some(file) => field("place", &format!("{}, by a link from {}", file.display(), self.place)),
            None => field("place", &self.place),
        }
        let made = self.pattern.as_ref().map_or_else(
            || "no template: it came as it is".to_string(),
            |made| format!("the template `{}`, mail {}", made.template, made.mail.words()),
        );
        field("made from", &made);
        let types = self.types.iter().map(|(kind, count)| format!("{count} {kind}")).collect::<Vec<_>>().join(", ");
        field("records", &types);
        let names = self.wanted.nameservers.iter().map(DnsName::bare).collect::<Vec<_>>().join(", ");
        if !names.is_empty() {
            field("delegated to", &names);
        }
        if let Some(prepared) = &self.zone.prepared {
            let ttl = show_seconds(prepared.ttl.into());
            let words = format!(
                "lowered to {ttl} for a move, ready {}; afterwards: brightharbor zone prepare-move {} --back",
                when(prepared.ready_at, clock::now()),
                self.zone.name
            );
            field("time to live", &words);
        }
        for (label, words) in self.signed.iter().flat_map(SignedZone::lines) {
            field(&label, &words);
        }
        for (index, (holder, holding)) in self.held.iter().enumerate() {
            let label = if index == 0 { "servers" } else { "" };
            let has = if holding.serial().is_some() { "has" } else { "" };
            let words = format!("{} ({}) {has} {}", holder.name, holder.address, holding.words());
            field(label, &words.replace(")  ", ") "));
        }
        field("findings", &self.findings_words());
    }

    fn json(&self) -> Value {
        let server = |(holder, holding): &(Holder, Holding)| {
            json!({
                "name": holder.name,
                "address": holder.address.to_string(),
                "serial": holding.serial(),
                "in_step": holding.is_in_step(),
            })
        };
        let types: BTreeMap<String, usize> =
            self.types.iter().map(|(kind, count)| (kind.to_string(), *count)).collect();
        json!({
            "command": "zone show",
            "zone": self.zone.name,
            "account": self.zone.account,
            "home": self.zone.home,
            "place": self.place,
            "signed": self.signed.as_ref().map(SignedZone::document),
            "link": self.link.as_ref().map(|file| file.display().to_string()),
            "serial": self.serial,
            "records": types,
            "template": self.pattern.as_ref().map(|made| made.template.to_string()),
            "mail": self.pattern.as_ref().map(|made| made.mail.words()),
            "nameservers": self.wanted.nameservers.iter().map(DnsName::bare).collect::<Vec<_>>(),
            "ready_to_move_at": self.zone.prepared.as_ref().map(|prepared| prepared.ready_at.to_string()),
            "servers": self.held.iter().map(server).collect::<Vec<_>>(),
            "findings": self.findings.iter().map(json::FindingDocument::from).collect::<Vec<_>>(),
        })
    }

    fn exit(&self) -> Exit {
        let fault = self.findings.iter().any(|finding| finding.severity == Severity::Fault);
        if fault { Exit::Fault } else { Exit::Done }
    }
}

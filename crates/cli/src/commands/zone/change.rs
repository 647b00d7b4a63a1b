//! `zone change`: another account, mail setting, template or nameserver set.

use brightharbor_core::change::Remark;
use brightharbor_core::name::DnsName;
use brightharbor_core::zone::{
    ChangeZone as Request, SoaWish, ZoneOutcome, ZoneRemark, change_zone, mailbox, soa_times,
};
use brightharbor_io::load::{self, DesignChange};
use clap::Args;
use serde_json::{Value, json};

use super::chosen::{document, show};
use super::sign;
use super::source::find;
use crate::commands::{Report, account_name};
use crate::design::DesignChangeOptions;
use crate::error::{Error, Exit};
use crate::options::ChangeOptions;
use crate::run::{Carried, Context, change};
use crate::show::human::{Page, change_report};
use crate::show::{Shown, json};

/// Change what a zone is: its account, its mail setting, its template, its nameserver set. What was edited by hand stays.
#[derive(Debug, Args)]
pub struct Change {
    /// The zone, as in `zone list`.
    zone: String,
    /// The account that it belongs to. Attached names go with `site change --account`.
    #[arg(long, value_name = "ACCOUNT")]
    account: Option<String>,
    /// The server that its start of authority names as the primary.
    #[arg(long, value_name = "NAME")]
    soa_primary: Option<DnsName>,
    /// The mailbox in its start of authority, as post@gullrock.example.
    #[arg(long, value_name = "MAILBOX", value_parser = mailbox)]
    soa_mailbox: Option<DnsName>,
    /// The times in its start of authority: refresh, retry, expire, and that for "no such name", as in "4h 30m 4w 5m".
    #[arg(long, value_name = "TIMES", value_parser = soa_times)]
    soa_times: Option<[u32; 4]>,
    /// Have the DNS server sign it, by a policy of the server's own configuration (`default` is built into BIND and Knot DNS).
    #[arg(long, value_name = "POLICY", num_args = 0..=1, default_missing_value = "default", value_parser = policy_name,
        conflicts_with_all = ["account", "soa_primary", "soa_mailbox", "soa_times", "no_sign"])]
    sign: Option<String>,
    /// Have the DNS server sign it no more, once no resolver can expect signatures.
    #[arg(long, conflicts_with_all = ["account", "soa_primary", "soa_mailbox", "soa_times"])]
    no_sign: bool,
    #[command(flatten)]
    design: DesignChangeOptions,
    #[command(flatten)]
    options: ChangeOptions,
}

/// It goes into the server's configuration as it is.
fn policy_name(typed: &str) -> Result<String, String> {
    let sound = |byte: u8| byte.is_ascii_alphanumeric() || b"-_.".contains(&byte);
    match (1..=60).contains(&typed.len()) && typed.bytes().all(sound) {
        true => Ok(typed.to_string()),
        false => Err("letters, digits, and - _ . alone".into()),
    }
}

pub fn run(args: &Change, context: &Context) -> Report {
    let design: DesignChange = args.design.change()?;
    if args.sign.is_some() || args.no_sign {
        if design != DesignChange::default() {
            return Err(Error::wrong_use("signing cannot be changed together with what the zone is made from")
                .advice("give one command after the other"));
        }
        return sign::run(&args.zone, args.sign.as_deref(), &args.options, context);
    }
    let account = args.account.as_deref().map(account_name).transpose()?;
    let soa =
        SoaWish { primary: args.soa_primary.clone(), hostmaster: args.soa_mailbox.clone(), times: args.soa_times };
    if !soa.is_empty() && (design.template.is_some() || design.mail.is_some() || design.nameserver_set.is_some()) {
        return Err(Error::wrong_use("the start of authority is changed together with what the zone is made by")
            .advice("give one command after the other"));
    }
    let request = Request { account, nameserver_set: design.nameserver_set.clone(), soa };
    let title = format!("zone change {}", args.zone);
    let (carried, outcomes) = context.block_on(change(context, &title, &args.options, async |overlay, now| {
        let zone = find(overlay, &args.zone)?;
        let loaded = load::change_zone(overlay, zone, &request, &design).await??;
        let (plan, outcomes) = change_zone(&request, &loaded, now)?;
        Ok((plan, outcomes))
    }))??;
    Ok(Box::new(Changed { carried, outcomes }))
}

struct Changed {
    carried: Carried,
    outcomes: Vec<ZoneOutcome>,
}

impl Shown for Changed {
    fn human(&self, page: &mut Page) {
        if self.carried.plan.is_empty() && self.outcomes.is_empty() {
            return page.line("Nothing to change.");
        }
        change_report(page, &self.carried);
        show(page, &self.outcomes);
    }

    fn json(&self) -> Value {
        json!({
            "command": "zone change",
            "carried_out": self.carried.entry.is_some(),
            "change": json::ChangeDocument::from(&self.carried),
            "zones": self.outcomes.iter().map(document).collect::<Vec<_>>(),
        })
    }

    fn exit(&self) -> Exit {
        let other_nameservers = |remark: &Remark| matches!(remark, Remark::Zone(ZoneRemark::OtherNameservers { .. }));
        match self.outcomes.iter().any(|outcome| outcome.left.is_some()) {
            true => Exit::Fault,
            // What is left is the registrar's turn.
            false if self.carried.plan.remarks.iter().any(other_nameservers) => Exit::Waits,
            false => Exit::Done,
        }
    }
}

//! `nameserver change`: a server of a set moves to other addresses, joins or leaves. What must follow, in which order, and
//! until when the old address must keep answering.

use brightharbor_core::change::Consent;
use brightharbor_core::name::DnsName;
use brightharbor_core::nameserver::{ChangeSet, Member, change_set};
use brightharbor_io::load;
use clap::Args;

use crate::commands::Report;
use crate::error::Error;
use crate::options::ChangeOptions;
use crate::run::{Asking, Context, change_as};
use crate::show::ChangeReport;

/// Change a nameserver set: new addresses of its servers, servers that join or leave, its capacity.
#[derive(Debug, Args)]
pub struct ChangeSetMembers {
    /// The set.
    set: String,
    /// Nameservers of the set with their new addresses: NAME=ADDRESS,ADDRESS.
    #[arg(value_name = "NAME=ADDRESS,...")]
    members: Vec<Member>,
    /// A nameserver that joins the set: NAME, or NAME=ADDRESS,ADDRESS. May be given several times.
    #[arg(long = "add", value_name = "NAME[=ADDRESS,...]")]
    joining: Vec<Member>,
    /// A nameserver that leaves the set. May be given several times.
    #[arg(long = "remove", value_name = "NAME")]
    leaving: Vec<DnsName>,
    /// For how many domains it is made.
    #[arg(long, value_name = "COUNT")]
    capacity: Option<u32>,
    /// Change it although the servers do not answer for its domains there yet.
    #[arg(long)]
    unready: bool,
    #[command(flatten)]
    options: ChangeOptions,
}

pub fn run(args: &ChangeSetMembers, context: &Context) -> Report {
    if let Some(bare) = args.members.iter().find(|member| member.addresses.is_empty()) {
        return Err(Error::wrong_use(format!("no new address is given for {}", bare.name.bare()))
            .advice(format!("give it as {}=ADDRESS", bare.name.bare())));
    }
    let title = format!("nameserver change {}", args.set);
    let request = ChangeSet {
        name: args.set.clone(),
        members: args.members.clone(),
        joining: args.joining.clone(),
        leaving: args.leaving.clone(),
        capacity: args.capacity,
    };
    let unready = |consent: &Consent| args.unready && matches!(consent, Consent::ServerNotReady { .. });
    let asking = Asking::new(context, &args.options, &unready);
    let (carried, ()) = context.block_on(change_as(context, &title, &asking, async |overlay, now| {
        let loaded = load::change_set(overlay, &request).await?;
        Ok((change_set(&request, &loaded, now)?, ()))
    }))??;
    Ok(Box::new(ChangeReport { command: "nameserver change", carried }))
}

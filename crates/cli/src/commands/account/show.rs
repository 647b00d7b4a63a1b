//! `account show`: what an account has, what is left of its plan, and the disk that its document roots take.

use std::path::Path;

use brightharbor_core::account::{Account, AccountName, AccountPlan, Counted, Usage};
use brightharbor_io::install::disk_used;
use clap::Args;
use serde_json::{Value, json};

use crate::commands::{Report, find_account};
use crate::error::Exit;
use crate::run::Context;
use crate::show::Shown;
use crate::show::human::Page;
use crate::show::words::limits_document;

/// Show one account.
#[derive(Debug, Args)]
pub struct Show {
    /// The account.
    name: String,
}

pub fn run(args: &Show, context: &Context) -> Report {
    let harbor = context.open()?;
    let account = find_account(&harbor, &args.name)?;
    let plan = account.plan.as_ref().map(|name| harbor.store.plan(name)).transpose()?.flatten();
    let sites = harbor.store.sites(Some(&account.name))?;
    let mut roots: Vec<&Path> = sites.iter().map(|site| site.document_root.as_path()).collect();
    // A root inside another one is counted with it.
    roots.sort();
    roots.dedup_by(|below, above| below.starts_with(*above));
    context.progress.doing("adding up the document roots");
    let disk: u64 = roots.iter().map(|root| disk_used(root)).sum();
    let (usage, zones) = (harbor.store.usage(&account.name)?, harbor.store.zones()?);
    let zones = zones.into_iter().filter(|zone| zone.account == account.name).count();
    let sold = harbor.store.sold_by(&account.name)?;
    Ok(Box::new(AccountPage { account, plan, usage, zones, sold, disk }))
}

struct AccountPage {
    account: Account,
    plan: Option<AccountPlan>,
    usage: Usage,
    zones: usize,
    /// The accounts that it sold.
    sold: Vec<Account>,
    /// In bytes.
    disk: u64,
}

impl Shown for AccountPage {
    fn human(&self, page: &mut Page) {
        let account = &self.account;
        page.heading(&format!("{}: {}", account.name, account.email));
        let mut field = |name: &str, text: &str| page.hanging(&format!("  {name:<15}"), text);
        field("home", &account.home.display().to_string());
        field("system user", account.system_user.as_deref().unwrap_or("whoever runs the program"));
        field("nameservers", account.nameserver_set.as_deref().unwrap_or("those of [host]"));
        if let Some(reseller) = &account.reseller {
            field("reseller", reseller.as_str());
        }
        if !self.sold.is_empty() {
            let sold: Vec<&str> = self.sold.iter().map(|account| account.name.as_str()).collect();
            field("sold", &sold.join(", "));
        }
        field("plan", account.plan.as_ref().map_or("none: any number of everything", AccountName::as_str));
        for counted in Counted::ALL {
            let used = self.usage.of(counted);
            let of = self.plan.as_ref().and_then(|plan| plan.limits.of(counted));
            let left = of.map(|limit| match limit {
                0 => ", none allowed".to_string(),
                limit => format!(", {} left of {limit}", limit.saturating_sub(used)),
            });
            field(counted.words(), &format!("{used}{}", left.unwrap_or_default()));
        }
        field("zones", &self.zones.to_string());
        let mib = self.disk.div_ceil(1 << 20);
        let of = self.plan.as_ref().and_then(|plan| plan.limits.disk).map(|limit| {
            let over = if mib > u64::from(limit) { ": more than the plan says" } else { "" };
            format!(" of {limit} MiB{over}")
        });
        field("disk", &format!("{mib} MiB{}", of.unwrap_or_default()));
    }

    fn json(&self) -> Value {
        let (account, usage) = (&self.account, &self.usage);
        json!({
            "command": "account show",
            "account": {
                "name": account.name,
                "email": account.email,
                "home": account.home.display().to_string(),
                "system_user": account.system_user,
                "plan": account.plan,
                "nameserver_set": account.nameserver_set,
                "reseller": account.reseller,
            },
            "sold": self.sold.iter().map(|account| &account.name).collect::<Vec<_>>(),
            "limits": self.plan.as_ref().map(|plan| limits_document(&plan.limits)),
            "usage": {
                "addon_domains": usage.addon_domains,
                "subdomains": usage.subdomains,
                "alias_domains": usage.alias_domains,
                "redirects": usage.redirects,
            },
            "zones": self.zones,
            "disk_bytes": self.disk,
        })
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}

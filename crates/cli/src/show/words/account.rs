//! What decisions about accounts and plans tell.

use brightharbor_core::account::{AccountName, AccountRemark, Counted, Limits};
use serde_json::{Value, json};

use super::Told;

pub(super) fn told(remark: &AccountRemark) -> Told {
    use AccountRemark as Is;
    match remark {
        Is::Added { account, home } => {
            let what = format!("account {account} (home {})", home.display());
            let told = Told::act("account-created", "Created", "create", what);
            told.with("account", account.as_str()).with("home", home.display().to_string())
        }
        Is::UserMade { user } => {
            let what = format!("system user {user}, without password and login shell");
            Told::act("system-user-created", "Created", "create", what).with("user", user.as_str())
        }
        Is::MailOnOwnDomain { email } => {
            let words = format!(
                "{email} lies on the account's own domain: if that domain fails, nobody can reach the customer"
            );
            Told::fact("mail-on-own-domain", words).with("email", email.as_str())
        }
        Is::Email { account, email } => {
            let what = format!("the contact of {account} to {email}");
            Told::act("email-set", "Set", "set", what).with("account", account.as_str()).with("email", email.as_str())
        }
        Is::Plan { account, plan } => {
            let plan = plan.as_ref().map(AccountName::as_str);
            let words = match plan {
                Some(plan) => format!("{account}: plan {plan}"),
                None => format!("{account}: no plan, so no limits"),
            };
            Told::fact("plan-set", words).with("account", account.as_str()).with("plan", plan)
        }
        Is::HomeTaken { home } => {
            let words = format!("{} already exists; what is in it stays, and belongs to whom it did", home.display());
            Told::fact("home-taken", words).with("home", home.display().to_string())
        }
        Is::NameserverSet { account, set } => {
            let words = match set {
                Some(set) => format!(
                    "{account}: new domains use nameserver set {set}; move existing zones with `brightharbor zone move`"
                ),
                None => format!("{account}: new domains use the nameservers of [host]"),
            };
            Told::fact("nameserver-set-set", words)
                .with("account", account.as_str())
                .with("nameserver_set", set.as_deref())
        }
        Is::Reseller { account, reseller } => {
            let reseller = reseller.as_ref().map(AccountName::as_str);
            let words = match reseller {
                Some(reseller) => format!("{account}: sold by {reseller}"),
                None => format!("{account}: no reseller"),
            };
            Told::fact("reseller-set", words).with("account", account.as_str()).with("reseller", reseller)
        }
        Is::SystemUser { account, user, home } => {
            let words = match user {
                Some(user) => format!(
                    "{account}: {user} owns folders made from now on; hand over existing ones with: chown -R -h \
                     {user}: {}",
                    home.display()
                ),
                None => format!("{account}: whoever runs brightharbor owns folders made from now on"),
            };
            Told::fact("system-user-set", words)
                .with("account", account.as_str())
                .with("user", user.as_deref())
                .with("home", home.display().to_string())
        }
        Is::Home { account, home, sites } => {
            let served = match sites {
                0 => String::new(),
                1 => "; 1 site is served from there".into(),
                several => format!("; {several} sites are served from there"),
            };
            let what = format!("the home of {account} to {}{served}", home.display());
            Told::act("home-set", "Set", "set", what)
                .with("account", account.as_str())
                .with("home", home.display().to_string())
                .with("sites", *sites)
        }
        Is::Removed { account } => Told::act("account-removed", "Removed", "remove", format!("account {account}"))
            .with("account", account.as_str()),
        Is::HomeStays { home } => Told::fact("home-stays", format!("{} stays as it is", home.display()))
            .with("home", home.display().to_string()),
        Is::PlanAllows { plan, limits } => {
            let all = Counted::ALL.map(|counted| format!("{} {}", counted.words(), limit_words(limits.of(counted))));
            let scripts = limits.scripts.map(|count| format!("scripts at once {count}"));
            let memory = limits.script_memory.map(|mib| format!("{mib} MiB for a script"));
            let all: Vec<String> = all.into_iter().chain(scripts).chain(memory).collect();
            let words = format!("plan {plan} allows: {}", all.join(", "));
            Told::fact("plan-allows", words).with("plan", plan.as_str()).with("limits", limits_document(limits))
        }
        Is::PlanRemoved { plan } => {
            Told::act("plan-removed", "Removed", "remove", format!("plan {plan}")).with("plan", plan.as_str())
        }
    }
}

/// A limit as people read it.
pub fn limit_words(limit: Option<u32>) -> String {
    match limit {
        None => "any number".into(),
        Some(0) => "none".into(),
        Some(count) => count.to_string(),
    }
}

/// The limits for programs; `null`: no limit.
pub fn limits_document(limits: &Limits) -> Value {
    json!({
        "addon_domains": limits.addon_domains,
        "subdomains": limits.subdomains,
        "alias_domains": limits.alias_domains,
        "redirects": limits.redirects,
        "disk_mib": limits.disk,
        "scripts": limits.scripts,
        "script_memory_mib": limits.script_memory,
    })
}

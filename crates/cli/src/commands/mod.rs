//! One thin file a command. Each gives a report; nothing here prints.

pub mod account;
pub mod attach;
pub mod ca;
pub mod certificate;
pub mod delegation;
#[cfg(feature = "demo")]
pub mod demo;
pub mod detach;
pub mod explain;
pub mod init;
pub mod load;
pub mod logbook;
pub mod manual;
pub mod nameserver;
pub mod plan;
pub mod record;
pub mod redirect;
pub mod report;
pub mod site;
pub mod survey;
pub mod tend;
pub mod undo;
pub mod zone;

use brightharbor_core::account::{Account, AccountName, AccountPlan, AccountRefusal};
use brightharbor_core::harbor::NameserverSet;
use brightharbor_core::name::{Host, Hostname, HostnameError};
use brightharbor_core::nameserver::NameserverRefusal;
use brightharbor_core::site::{Site, SiteRefusal};
use brightharbor_io::harbor::Harbor;

use crate::args::Command;
use crate::error::Error;
use crate::run::Context;
use crate::show::Shown;

/// What every command comes down to.
pub type Report = Result<Box<dyn Shown>, Error>;

pub fn dispatch(command: &Command, context: &Context) -> Report {
    match command {
        Command::Init(init) => init::run(init, context),
        #[cfg(feature = "demo")]
        Command::Demo(demo) => demo::run(demo, context),
        Command::Account(account::Account::Add(add)) => account::add::run(add, context),
        Command::Account(account::Account::List(list)) => account::list::run(list, context),
        Command::Account(account::Account::Change(change)) => account::change::run(change, context),
        Command::Account(account::Account::Remove(remove)) => account::remove::run(remove, context),
        Command::Account(account::Account::Show(show)) => account::show::run(show, context),
        Command::Plan(plan::PlanCommand::Add(add)) => plan::set::add(add, context),
        Command::Plan(plan::PlanCommand::Change(change)) => plan::set::change_limits(change, context),
        Command::Plan(plan::PlanCommand::List(list)) => plan::list::run(list, context),
        Command::Plan(plan::PlanCommand::Remove(remove)) => plan::remove::run(remove, context),
        Command::Plan(plan::PlanCommand::Show(show)) => plan::list::show(show, context),
        Command::Attach(attach) => attach::run(attach, context),
        Command::Detach(detach) => detach::run(detach, context),
        Command::Site(site::Site::Change(change)) => site::change::run(change, context),
        Command::Site(site::Site::List(list)) => site::list::run(list, context),
        Command::Site(site::Site::Log(log)) => site::log::run(log, context),
        Command::Site(site::Site::Protect(protect)) => site::protect::run(protect, context),
        Command::Site(site::Site::Realign(realign)) => site::realign::run(realign, context),
        Command::Site(site::Site::Show(show)) => site::show::run(show, context),
        Command::Record(record::Record::Add(add)) => record::add::run(add, context),
        Command::Record(record::Record::List(list)) => record::list::run(list, context),
        Command::Record(record::Record::Remove(remove)) => record::remove::run(remove, context),
        Command::Record(record::Record::Replace(replace)) => record::replace::run(replace, context),
        Command::Redirect(redirect::RedirectCommand::Add(add)) => redirect::add::run(add, context),
        Command::Redirect(redirect::RedirectCommand::List(list)) => redirect::list::run(list, context),
        Command::Redirect(redirect::RedirectCommand::Remove(remove)) => redirect::remove::run(remove, context),
        Command::Redirect(redirect::RedirectCommand::Show(show)) => redirect::show::run(show, context),
        Command::Redirect(redirect::RedirectCommand::Try(url)) => redirect::try_url::run(url, context),
        Command::Zone(zone::Zone::Check(check)) => zone::check::run(check, context),
        Command::Zone(zone::Zone::Create(create)) => zone::create::run(create, context),
        Command::Zone(zone::Zone::List(list)) => zone::list::run(list, context),
        Command::Zone(zone::Zone::Load(load)) => zone::load::run(load, context),
        Command::Zone(zone::Zone::Move(to)) => zone::move_to::run(to, context),
        Command::Zone(zone::Zone::Publish(publish)) => zone::publish::run(publish, context),
        Command::Zone(zone::Zone::Realign(realign)) => zone::realign::run(realign, context),
        Command::Zone(zone::Zone::Remove(remove)) => zone::remove::run(remove, context),
        Command::Zone(zone::Zone::Change(change)) => zone::change::run(change, context),
        Command::Zone(zone::Zone::Compare(compare)) => zone::compare::run(compare, context),
        Command::Zone(zone::Zone::Show(show)) => zone::show::run(show, context),
        Command::Zone(zone::Zone::PrepareMove(prepare)) => zone::prepare_move::run(prepare, context),
        Command::Zone(zone::Zone::Print(print)) => zone::print::run(print),
        Command::Delegation(delegation::Delegation::Check(check)) => delegation::check::run(check, context),
        Command::Delegation(delegation::Delegation::Handover(handover)) => delegation::handover::run(handover, context),
        Command::Delegation(delegation::Delegation::Wait(wait)) => delegation::wait::run(wait, context),
        Command::Ca(ca::CaCommand::ChangeKey(change)) => ca::account::change_key(change, context),
        Command::Ca(ca::CaCommand::Close(close)) => ca::account::close(close, context),
        Command::Ca(ca::CaCommand::List(list)) => ca::list::run(list, context),
        Command::Ca(ca::CaCommand::TellContact(tell)) => ca::account::tell_contact(tell, context),
        Command::Certificate(certificate::Certificate::Issue(issue)) => certificate::issue::run(issue, context),
        Command::Certificate(certificate::Certificate::Check(check)) => certificate::check::run(check, context),
        Command::Certificate(certificate::Certificate::Import(import)) => certificate::import::run(import, context),
        Command::Certificate(certificate::Certificate::Install(install)) => certificate::install::run(install, context),
        Command::Certificate(certificate::Certificate::Prove(prove)) => certificate::prove::run(prove, context),
        Command::Certificate(certificate::Certificate::Renew(renew)) => certificate::issue::renew(renew, context),
        Command::Certificate(certificate::Certificate::Request(request)) => certificate::request::run(request, context),
        Command::Certificate(certificate::Certificate::Revoke(revoke)) => certificate::revoke::run(revoke, context),
        Command::Certificate(certificate::Certificate::SelfSign(sign)) => certificate::self_sign::run(sign, context),
        Command::Certificate(certificate::Certificate::Show(show)) => certificate::show::run(show, context),
        Command::Certificate(certificate::Certificate::List(list)) => certificate::list::run(list, context),
        Command::Nameserver(nameserver::NameserverCommand::Add(add)) => nameserver::add::run(add, context),
        Command::Nameserver(nameserver::NameserverCommand::Change(change)) => nameserver::change::run(change, context),
        Command::Nameserver(nameserver::NameserverCommand::Check(check)) => nameserver::check::run(check, context),
        Command::Nameserver(nameserver::NameserverCommand::List(list)) => nameserver::list::run(list, context),
        Command::Nameserver(nameserver::NameserverCommand::Remove(remove)) => nameserver::remove::run(remove, context),
        Command::Nameserver(nameserver::NameserverCommand::Show(show)) => nameserver::list::show(show, context),
        Command::Report(report) => report::run(report, context),
        Command::Survey(survey) => survey::run(survey, context),
        Command::Tend(tend) => tend::run(tend, context),
        Command::Logbook(logbook) => logbook::run(logbook, context),
        Command::Explain(explain) => explain::run(explain),
        Command::Load(load) => load::run(load, context),
        Command::Undo(undo) => undo::run(undo, context),
        Command::Manual(manual) => manual::run(manual),
    }
}

/// An account's name as typed.
pub fn account_name(typed: &str) -> Result<AccountName, Error> {
    AccountName::parse(typed).map_err(Error::wrong_use)
}

/// A plan's name as typed.
pub fn plan_name(typed: &str) -> Result<AccountName, Error> {
    AccountName::parse(typed).map_err(|_| {
        Error::wrong_use(format!("`{}` is not a plan name", typed.escape_debug()))
            .advice("1 to 31 lower-case letters, digits or hyphens, a letter first")
    })
}

/// The account by its name as typed.
pub fn find_account(harbor: &Harbor, typed: &str) -> Result<Account, Error> {
    let name = account_name(typed)?;
    harbor.store.account(&name)?.ok_or_else(|| AccountRefusal::Unknown(name).into())
}

/// The plan by its name as typed.
pub fn find_plan(harbor: &Harbor, typed: &str) -> Result<AccountPlan, Error> {
    let name = plan_name(typed)?;
    harbor.store.plan(&name)?.ok_or_else(|| AccountRefusal::UnknownPlan(name).into())
}

/// A nameserver set by its name; that of `[host]` goes by `host`.
pub fn find_set(harbor: &Harbor, name: &str) -> Result<NameserverSet, Error> {
    let set = harbor.settings.nameserver_set(Some(name).filter(|name| *name != "host"));
    set.ok_or_else(|| NameserverRefusal::Unknown(name.to_string()).into())
}

/// The site of a hostname.
pub fn find_site(harbor: &Harbor, name: &Host) -> Result<Site, Error> {
    harbor.store.site_of(name)?.ok_or_else(|| SiteRefusal::NotAttached(name.clone()).into())
}

/// Reads what a site is asked for by, as typed: a hostname, or an address.
pub fn host(typed: &str) -> Result<Host, Error> {
    Host::parse(typed).or_else(|_| hostname(typed).map(Host::Name))
}

/// Reads a hostname as typed.
pub fn hostname(typed: &str) -> Result<Hostname, Error> {
    Hostname::parse(typed).map_err(not_a_hostname)
}

/// Reads the name of a zone as typed.
pub fn zone_name(typed: &str) -> Result<Hostname, Error> {
    Hostname::parse_zone(typed).map_err(not_a_hostname)
}

fn not_a_hostname(error: HostnameError) -> Error {
    let advice = match &error {
        HostnameError::Doubled { meant, .. } => format!("give `{meant}`"),
        HostnameError::Url { meant, .. } if !meant.is_empty() => format!("give `{meant}`"),
        HostnameError::Blank(text) => {
            let joined: String = text.split_whitespace().collect();
            format!("if one name was meant, give `{joined}`; several names are given as several arguments")
        }
        _ => "labels are 1 to 63 letters, digits and hyphens, joined by single dots".into(),
    };
    Error { code: "hostname", ..Error::wrong_use(error) }.advice(advice)
}

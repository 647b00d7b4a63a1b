//! What a person must have consented to before a plan is carried out: facts, not questions.
//!
//! A plan that takes away or replaces what somebody relies on names it here. How a consent is asked for, and by which
//! option it is given, is for the command line.

use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;

use crate::account::AccountName;
use crate::delegation::Outcome;
use crate::name::{DnsName, Host, Hostname};
use crate::site::{AnsweredBefore, Overridable};
use crate::zone::Record;

/// A fact that the plan rests on, and that is not undone by giving the opposite command.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Consent {
    /// The web server's file of a site was edited by hand, and the edit is lost.
    ReplacesHandEdit {
        site: Host,
        path: PathBuf,
        /// The file as this program wrote it.
        written: String,
        /// The file as it was found.
        found: String,
    },
    /// A zone is removed with records that nobody made by a command.
    RemovesHandMadeRecords { zone: Hostname, records: Vec<Record> },
    /// A nameserver does not answer with authority at its new address yet.
    ServerNotReady { nameserver: DnsName, server: SocketAddr, zone: Hostname, outcome: Outcome },
    /// A block of the web server's own configuration is not reached at that address any more.
    TakesVisitors { file: PathBuf, line: usize, address: IpAddr, port: u16 },
    /// The running web server answers for the name by something of its own, and would answer with the site from now on.
    TakesOverName(AnsweredBefore),
    /// A zone begins where none was seen to: until the zone above delegates it, nobody asks for it here.
    BeginsUndelegated { zone: Hostname },
    /// Files of an account's own tell the web server what to do, which may read what belongs to others.
    TrustsHtaccess { site: Host, account: AccountName, groups: Vec<Overridable> },
    /// The account at a CA is closed; there is no way back.
    ClosesCaAccount { ca: String },
}

impl Consent {
    /// The word that programs know it by.
    pub fn code(&self) -> &'static str {
        match self {
            Consent::ReplacesHandEdit { .. } => "replaces-hand-edit",
            Consent::RemovesHandMadeRecords { .. } => "removes-hand-made-records",
            Consent::ServerNotReady { .. } => "server-not-ready",
            Consent::TakesVisitors { .. } => "takes-visitors",
            Consent::TakesOverName(_) => "takes-over-name",
            Consent::BeginsUndelegated { .. } => "begins-undelegated",
            Consent::TrustsHtaccess { .. } => "trusts-htaccess",
            Consent::ClosesCaAccount { .. } => "closes-ca-account",
        }
    }
}

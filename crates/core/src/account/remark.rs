//! What decisions about accounts and plans have to tell.

use std::path::PathBuf;

use super::{AccountName, Limits};

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum AccountRemark {
    /// An existing folder becomes a home.
    HomeTaken {
        home: PathBuf,
    },
    Added {
        account: AccountName,
        home: PathBuf,
    },
    UserMade {
        user: String,
    },
    /// The only mailbox of the customer lies on a domain of the account itself.
    MailOnOwnDomain {
        email: String,
    },
    Email {
        account: AccountName,
        email: String,
    },
    Plan {
        account: AccountName,
        plan: Option<AccountName>,
    },
    NameserverSet {
        account: AccountName,
        set: Option<String>,
    },
    Reseller {
        account: AccountName,
        reseller: Option<AccountName>,
    },
    /// Folders that are there already keep their owner.
    SystemUser {
        account: AccountName,
        user: Option<String>,
        home: PathBuf,
    },
    Home {
        account: AccountName,
        home: PathBuf,
        /// How many sites are served from there.
        sites: usize,
    },
    Removed {
        account: AccountName,
    },
    HomeStays {
        home: PathBuf,
    },
    PlanAllows {
        plan: AccountName,
        limits: Limits,
    },
    PlanRemoved {
        plan: AccountName,
    },
}

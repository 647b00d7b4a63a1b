//! Why a change of an account or a plan is refused: facts, whose words and advice are added where errors are shown.

use std::path::PathBuf;

use super::{AccountName, HomeRefusal, LimitReached};
use crate::name::Host;

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum AccountRefusal {
    Exists(AccountName),
    Unknown(AccountName),
    Home(HomeRefusal),
    NoUser(String),
    UserExists(String),
    /// Root owns what is nobody else's.
    UserIsRoot(String),
    /// Only root can make a system user.
    NotRoot(String),
    UnknownPlan(AccountName),
    PlanExists(AccountName),
    PlanInUse {
        plan: AccountName,
        holders: Vec<AccountName>,
    },
    UnknownSet(String),
    /// It would be its own reseller, through another one.
    ResellerCircle {
        account: AccountName,
        through: AccountName,
    },
    /// The account still sells others.
    Sells {
        account: AccountName,
        count: usize,
        first: AccountName,
    },
    InUse {
        account: AccountName,
        sites: usize,
        zones: usize,
    },
    /// Its zones would be left to the account that goes.
    LeftToItself(AccountName),
    /// A document root is not where it would have to be.
    HomeNotMoved {
        site: Host,
        root: PathBuf,
        before: PathBuf,
        after: PathBuf,
    },
    Limit(LimitReached),
}

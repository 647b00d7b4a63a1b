//! Accounts: customers with a home that document roots lie in, and the plans that say what they may have.

mod account;
mod plan;

pub use account::{
    Account, AccountName, AccountNameError, EmailError, SystemUserError, check_email, check_system_user,
};
pub use plan::{AccountPlan, Counted, LimitReached, Limits, Usage, check_limit};

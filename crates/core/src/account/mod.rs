//! Accounts: customers with a home that document roots lie in, and the plans that say what they may have.
//!
//! The inventory's rows are in `brightharbor-io`; the decisions about them are here, a file each.

#[allow(clippy::module_inception)]
mod account;
mod add;
mod change;
mod home;
mod plan;
mod plans;
mod refusal;
mod remark;
mod remove;

pub use account::{
    Account, AccountName, AccountNameError, EmailError, SystemUserError, check_email, check_system_user,
};
pub use add::{AddAccount, AddLoaded, UserSeen, UserWish, add_account, wanted_home};
pub use change::{ChangeAccount, ChangeLoaded, change_account, moved};
pub use home::{HomeRefusal, HomeSeen, refuse_home};
pub use plan::{AccountPlan, Counted, LimitReached, Limits, Usage, check_limit};
pub use plans::{LimitWish, LimitWishes, add_plan, change_plan, remove_plan};
pub use refusal::AccountRefusal;
pub use remark::AccountRemark;
pub use remove::{RemoveAccount, RemoveLoaded, remove_account};

//! Text for people: at most 100 columns, lined up, the most important thing first.

mod change;
mod delegation;
mod escape;
mod findings;
mod lists;
mod notified;
mod page;
mod secured;
mod sparse_diff;
mod spread;
mod survey;
mod watched;

pub use change::{change_report, diff, file_diff, remarks};
pub use delegation::delegations;
pub use escape::{harmless, harmless_json};
pub use findings::findings;
pub use lists::{list, table};
pub use notified::notified;
pub use page::{Page, when};
pub use secured::{brought, revoked, secured};
pub use spread::spread;
pub use survey::{survey_list, surveys};
pub use watched::watched;

//! JSON for programs: structs of their own, so that a change inside does not change what programs read. Tested as a
//! contract in `tests/`.

mod change;
mod delegation;
mod secured;
mod survey;

pub use change::ChangeDocument;
pub use delegation::{FindingDocument, nameservers};
pub use secured::SecuredDocument;
pub use survey::SurveyDocument;

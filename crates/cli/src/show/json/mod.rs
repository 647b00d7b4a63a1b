//! JSON for programs: structs of their own, so that a change inside does not change what programs read. Tested as a
//! contract in `tests/`.

mod change;
mod content;
mod delegation;
mod demanded;
mod notified;
mod revoked;
mod secured;
mod site;
mod spread;
mod survey;
mod watched;

pub use change::ChangeDocument;
pub use content::{ContentDocument, PartDocument};
pub use delegation::{DelegationDocument, FindingDocument};
pub use demanded::demanded_document;
pub use notified::NotifiedDocument;
pub use revoked::RevokedDocument;
pub use secured::{BroughtDocument, SecuredDocument};
pub use site::hosts_document;
pub use spread::SpreadDocument;
pub use survey::SurveyDocument;
pub use watched::WatchedDocument;

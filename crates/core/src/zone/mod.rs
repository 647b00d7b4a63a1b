//! Zones: the master file as a document that prints back byte for byte ([`Document`]), the records in it as typed
//! values ([`Record`]), and the edits between the two.
//!
//! The document is for editing, the records are for deciding; `delegation` uses the same records for what servers
//! answer. Files are read and written by the neighbours in `brightharbor-io`.

mod alter;
mod directives;
mod document;
mod edit;
mod edit_ttls;
mod error;
mod former;
mod generate;
mod indexed;
mod kept;
mod merge;
mod parse;
mod parse_large;
mod pattern;
mod record;
mod record_data;
pub mod rules;
mod serial;
mod template;
mod token;
mod ttl;
mod typed;
mod update;

pub use alter::{AlterFacts, AlterRefused, AlterRequest, Alteration, Altered, add_records, alter, default_ttl};
pub use document::{Document, Entry, Item};
pub use error::{EditError, ZoneError, ZoneProblem};
pub use former::{
    CarriedOver, Difference, Differs, FormerSource, FormerWish, FormerZone, absent_name, carry_over, differences,
    further_questions, questions, set_words,
};
pub use kept::*;
pub use merge::{Merged, merge};
pub use parse::Fetch;
pub use pattern::{Mail, Pattern, PatternChoice, PatternError, TemplateName};
pub use record::{Record, RecordType};
pub(crate) use record_data::base32_hex;
pub use record_data::{Field, RecordData, Soa, algorithm_word};
pub use serial::{newest_serial, next_serial, serial_date, serial_is_newer};
pub use template::{BUILT_IN_TEMPLATE, TemplateError, first_serial};
pub use ttl::{parse_ttl, show_seconds};
pub use typed::{Meant, TypedError, data_as_meant, owner_as_meant};
pub use update::{Requirement, Update, UpdateStep};

//! What a seller of certificates looks at.

use brightharbor_core::certificate::DemandedProof;
use brightharbor_io::secure::Demanded;
use serde_json::{Value, json};

/// One thing that the seller looks at, for programs.
pub fn demanded_document(one: &Demanded) -> Value {
    let kind = match one.demand.proof {
        DemandedProof::File { .. } => "file",
        DemandedProof::Record { .. } => "record",
    };
    json!({
        "kind": kind,
        "subject": one.subject,
        "until": one.demand.until.to_string(),
        "seen": one.problem.is_none(),
        "problem": one.problem,
    })
}

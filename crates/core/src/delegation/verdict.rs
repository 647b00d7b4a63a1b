//! The verdict on one delegation, from its picture and findings: the one line that comes first.

use jiff::Timestamp;

use super::{Picture, Registered};
use crate::finding::{Finding, Severity};

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Verdict {
    /// Nothing is wrong; notes do not count.
    Well,
    /// Works, and is fragile in so many ways.
    Risks(usize),
    /// What is wrong may be no more than a change that is on its way, until then.
    Waiting(Timestamp),
    Faults(usize),
    NotRegistered,
    /// The parent could not be asked.
    Unknown,
}

impl Verdict {
    pub fn of(picture: &Picture, findings: &[Finding]) -> Self {
        let faults = findings.iter().filter(|finding| finding.is_fault()).count();
        let risks = findings.iter().filter(|f| f.severity == Severity::Risk && f.waits_until.is_none()).count();
        match (&picture.registered, findings.iter().filter_map(|finding| finding.waits_until).max()) {
            (Registered::No, _) => Verdict::NotRegistered,
            (Registered::Unknown(_), _) => Verdict::Unknown,
            _ if faults > 0 => Verdict::Faults(faults),
            (_, Some(until)) => Verdict::Waiting(until),
            _ if risks > 0 => Verdict::Risks(risks),
            _ => Verdict::Well,
        }
    }

    /// One word for programs.
    pub fn word(&self) -> &'static str {
        match self {
            Verdict::Well => "well",
            Verdict::Risks(_) => "risks",
            Verdict::Waiting(_) => "waiting",
            Verdict::Faults(_) => "faults",
            Verdict::NotRegistered => "not-registered",
            Verdict::Unknown => "unknown",
        }
    }

    /// Whether visitors find the domain.
    pub fn is_fault(&self) -> bool {
        matches!(self, Verdict::Faults(_) | Verdict::NotRegistered | Verdict::Unknown)
    }
}

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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::finding::RuleText;
    use crate::name::DnsName;

    fn verdict(registered: Registered, severities: &[(Severity, Option<&str>)]) -> Verdict {
        let findings: Vec<Finding> = severities
            .iter()
            .map(|(severity, until)| {
                let text = RuleText { code: "made-up", severity: *severity, what: "", why: "", cure: "", source: "" };
                let until = until.map(|until| until.parse().unwrap());
                Finding { waits_until: until, ..text.finding("gullrock.example", "", "") }
            })
            .collect();
        let picture = Picture { registered, ..Picture::unasked(DnsName::root()) };
        Verdict::of(&picture, &findings)
    }

    #[test]
    fn the_gravest_comes_first_and_waiting_before_risks() {
        let (soon, late) = ("2026-11-23T10:00:00Z", "2026-11-23T11:00:00Z");
        let yes = |severities: &[(Severity, Option<&str>)]| verdict(Registered::Yes, severities);
        assert_eq!(yes(&[(Severity::Note, None)]), Verdict::Well);
        assert_eq!(yes(&[(Severity::Risk, None), (Severity::Note, None)]), Verdict::Risks(1));
        let waiting = yes(&[(Severity::Risk, Some(soon)), (Severity::Fault, Some(late)), (Severity::Risk, None)]);
        assert_eq!(waiting, Verdict::Waiting(late.parse().unwrap()));
        let fault = yes(&[(Severity::Fault, None), (Severity::Risk, Some(soon))]);
        assert!(fault == Verdict::Faults(1) && fault.is_fault() && !waiting.is_fault());
        assert_eq!(verdict(Registered::No, &[(Severity::Fault, None)]), Verdict::NotRegistered);
        assert_eq!(verdict(Registered::Unknown("silence".into()), &[]).word(), "unknown");
    }
}

//! Which of what was found is worth a notice: certificates, services, the links of names.

use super::{Condition, Told, Topic};
use crate::certificate::securing::{SecureOutcome, Secured};
use crate::certificate::{Certificate, CertificateState};
use crate::name::{Host, Hostname};
use crate::survey::{LinkName, LinkState, Survey};
use jiff::Timestamp;

impl Condition {
    /// What came of trying to secure a site. Nothing where somebody else is at it, or the name leads elsewhere so far.
    pub fn of_secured(secured: &Secured) -> Option<Self> {
        let (topic, code, reason) = match &secured.outcome {
            SecureOutcome::Served { certificate, new: true } => {
                let names: Vec<&str> = certificate.names.iter().map(Host::as_str).collect();
                let reason = format!("valid until {}, for {}", certificate.not_after, names.join(", "));
                (Topic::CertificateRenewed, None, reason)
            }
            SecureOutcome::Served { .. } | SecureOutcome::NotYet => return None,
            SecureOutcome::Refused { why, .. } if why.busy => return None,
            SecureOutcome::Refused { why, .. } => (Topic::CertificateFailing, Some(why.code), why.reason.clone()),
            SecureOutcome::NotShown { reason, .. } => (Topic::CertificateFailing, Some("not-shown"), reason.clone()),
        };
        Some(Self { topic, subject: secured.site.to_string(), code: code.map(String::from), reason })
    }

    /// A certificate that somebody has to look after: revoked, over, or soon to be over.
    pub fn of_ending(certificate: &Certificate, now: Timestamp) -> Self {
        let until = certificate.not_after;
        let (topic, reason) = match (certificate.state == CertificateState::Revoked, until <= now) {
            (true, _) => (Topic::CertificateRevoked, "its CA has revoked it".into()),
            (false, true) => (Topic::CertificateExpired, format!("it expired at {until}")),
            (false, false) => (Topic::CertificateEnding, format!("it expires at {until}, and nobody here renews it")),
        };
        Self { topic, subject: certificate.site.to_string(), code: None, reason }
    }

    /// A zone that some of its servers have otherwise than it should be: each with what it has, in words. Nothing where all
    /// are in step.
    pub fn of_zone(zone: &Hostname, out_of_step: &[String]) -> Option<Self> {
        let reason = out_of_step.join("; ");
        (!reason.is_empty()).then(|| Self::plain(Topic::ZoneBehind, zone.as_str(), &reason))
    }

    /// A name whose first link that does not hold is broken. One that waits is no news.
    pub fn of_survey(survey: &Survey) -> Option<Self> {
        let link = survey.first_open().filter(|link| link.state == LinkState::Broken)?;
        let topic = match link.name {
            LinkName::Registered | LinkName::Delegated => Topic::DelegationBroken,
            _ => Topic::LinkBroken,
        };
        let (subject, code) = (survey.hostname.to_string(), Some(link.code.to_string()));
        Some(Self { topic, subject, code, reason: link.because.clone() })
    }
}

impl Topic {
    /// Whether a survey finds it, and not the timer.
    fn is_of_links(self) -> bool {
        matches!(self, Topic::DelegationBroken | Topic::LinkBroken)
    }
}

impl Told {
    /// Whether a run of the timer looked at it again. Sites that are left alone for a while are as they were.
    pub fn is_looked_at_by_timer(&self, left_alone: impl Fn(&str) -> bool) -> bool {
        match self.topic {
            Topic::ZoneBehind => false,
            topic if topic.is_of_links() => false,
            Topic::CertificateFailing => !left_alone(&self.subject),
            _ => true,
        }
    }

    /// Whether these surveys looked at it again. A name that waits is as it was.
    pub fn is_looked_at_by(&self, surveys: &[Survey]) -> bool {
        let is_clear = |survey: &Survey| survey.first_open().is_none_or(|link| link.state == LinkState::Broken);
        self.topic.is_of_links()
            && surveys.iter().any(|survey| survey.hostname.as_str() == self.subject && is_clear(survey))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::certificate::securing::NotIssued;
    use crate::survey::Link;

    fn host() -> Host {
        Host::parse("gullrock.example").unwrap()
    }

    fn at(second: i64) -> Timestamp {
        Timestamp::from_second(second).unwrap()
    }

    fn certificate(state: CertificateState) -> Certificate {
        let text = r#"{"site":"gullrock.example","names":["gullrock.example"],"files":{"folder":"/c"},"state":"served",
                       "not_before":"1970-01-01T00:00:00Z","not_after":"1970-01-01T00:01:40Z","source":"imported","details":{}}"#;
        Certificate { state, ..serde_json::from_str(text).unwrap() }
    }

    fn topic_of(outcome: SecureOutcome) -> Option<(Topic, Option<String>)> {
        let secured = Secured { site: host(), outcome, left_out: vec![] };
        Condition::of_secured(&secured).map(|found| (found.topic, found.code))
    }

    #[test]
    fn what_came_of_an_order_is_news_or_none() {
        let served = |new| SecureOutcome::Served { certificate: certificate(CertificateState::Served).into(), new };
        assert_eq!(topic_of(served(true)), Some((Topic::CertificateRenewed, None)));
        assert_eq!([topic_of(served(false)), topic_of(SecureOutcome::NotYet)], [None, None]);
        let refused = |busy| {
            let why = NotIssued { code: "ca-silent", reason: "r".into(), not_before: None, busy, names: vec![] };
            topic_of(SecureOutcome::Refused { why, kept: None })
        };
        assert_eq!(refused(false), Some((Topic::CertificateFailing, Some("ca-silent".into()))));
        assert_eq!(refused(true), None);
        let certificate = certificate(CertificateState::Installed);
        let unshown = topic_of(SecureOutcome::NotShown { certificate: certificate.into(), reason: "r".into() });
        assert_eq!(unshown, Some((Topic::CertificateFailing, Some("not-shown".into()))));
    }

    #[test]
    fn a_certificate_ends_in_three_ways() {
        let topic = |state, second| Condition::of_ending(&certificate(state), at(second)).topic;
        assert_eq!(topic(CertificateState::Served, 99), Topic::CertificateEnding);
        assert_eq!(topic(CertificateState::Served, 100), Topic::CertificateExpired);
        assert_eq!(topic(CertificateState::Revoked, 7), Topic::CertificateRevoked);
    }

    fn survey(name: LinkName, state: LinkState) -> Survey {
        let link = Link { name, state, code: "c", because: "b".into(), turn: None, values: vec![] };
        Survey { hostname: host(), links: vec![link] }
    }

    #[test]
    fn a_name_is_news_once_it_is_broken_and_not_while_it_waits() {
        let topic = |name, state| Condition::of_survey(&survey(name, state)).map(|found| found.topic);
        assert_eq!(topic(LinkName::Registered, LinkState::Broken), Some(Topic::DelegationBroken));
        assert_eq!(topic(LinkName::Delegated, LinkState::Broken), Some(Topic::DelegationBroken));
        assert_eq!(topic(LinkName::Resolves, LinkState::Broken), Some(Topic::LinkBroken));
        assert_eq!(topic(LinkName::Lands, LinkState::Waiting(None)), None);
        assert_eq!(topic(LinkName::Lands, LinkState::Risk), None);
    }

    #[test]
    fn a_zone_is_news_by_its_servers() {
        let zone = Hostname::parse("gullrock.example").unwrap();
        assert_eq!(Condition::of_zone(&zone, &[]), None);
        let servers = ["ns2: 7 (behind)".to_string(), "ns3: no answer".to_string()];
        let expected = Condition::plain(Topic::ZoneBehind, "gullrock.example", "ns2: 7 (behind); ns3: no answer");
        assert_eq!(Condition::of_zone(&zone, &servers), Some(expected));
    }

    #[test]
    fn what_nobody_looked_at_is_as_it_was() {
        let told = |topic| Told { topic, subject: "gullrock.example".into(), code: None, since: at(0), told: at(0) };
        let by_timer = |topic, left: bool| told(topic).is_looked_at_by_timer(|_| left);
        assert!(by_timer(Topic::CertificateFailing, false) && !by_timer(Topic::CertificateFailing, true));
        assert!(by_timer(Topic::ServiceBehind, true) && !by_timer(Topic::LinkBroken, false));
        assert!(!by_timer(Topic::ZoneBehind, false), "it asks no server for serials");
        let by = |topic, state| told(topic).is_looked_at_by(&[survey(LinkName::Lands, state)]);
        assert!(by(Topic::LinkBroken, LinkState::Holds) && by(Topic::DelegationBroken, LinkState::Broken));
        assert!(!by(Topic::LinkBroken, LinkState::Waiting(None)) && !by(Topic::CertificateEnding, LinkState::Holds));
        let other = Told { subject: "quay.example".into(), ..told(Topic::LinkBroken) };
        assert!(!other.is_looked_at_by(&[survey(LinkName::Lands, LinkState::Holds)]));
    }
}

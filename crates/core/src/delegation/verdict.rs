//! The verdict on one delegation, from its picture and findings: who notices what is wrong. The one line that comes first.

use jiff::Timestamp;

use super::{Picture, Reached, Registered, ServerSeen, ServerState};
use crate::finding::{Finding, Severity};

/// Who notices.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Verdict {
    /// Works for everybody; nothing is wrong, and notes do not count.
    Well,
    /// Works for everybody, and is fragile in so many ways.
    Risks(usize),
    /// What is wrong may be no more than a change that is on its way, until then.
    Waiting(Timestamp),
    /// Works for whoever asks, and is not as it should be in so many ways.
    Faults(usize),
    /// So many of the servers do not answer for the domain: whoever asks them first waits, or gets nothing.
    Some {
        failing: usize,
        servers: usize,
    },
    /// So many servers of the parent say that there is no such domain, and others delegate it: whoever asks the former first
    /// gets nothing.
    DeniedBySome {
        denying: usize,
        servers: usize,
    },
    /// Whoever verifies signatures gets nothing; so many of the servers are concerned.
    Validators {
        failing: usize,
        servers: usize,
    },
    /// No server answers for the domain.
    Fails,
    NotRegistered,
    /// The parent could not be asked.
    Unknown,
}

/// The findings that say that validating resolvers give no answer, where they are faults.
pub const REFUSED_BY_VALIDATORS: [&str; 6] = [
    "chain-broken",
    "ds-without-key",
    "ds-for-another-key",
    "signature-expired",
    "signature-wrong",
    "signature-missing",
];

impl Verdict {
    pub fn of(picture: &Picture, findings: &[Finding]) -> Self {
        let all = || findings.iter().flat_map(|finding| std::iter::once(finding).chain(&finding.follows));
        let faults = findings.iter().filter(|finding| finding.is_fault()).count();
        let risks = findings.iter().filter(|f| f.severity == Severity::Risk && f.waits_until.is_none()).count();
        let waits_until = findings.iter().filter_map(|finding| finding.waits_until).max();
        // What this host has no way to ask says nothing; a nameserver without address answers nobody.
        let asked = picture.servers().filter(|(_, server)| server.state != ServerState::NoRoute).count();
        let nowhere = picture.nameservers.iter().filter(|nameserver| nameserver.servers.is_empty()).count();
        // Resolvers ask over UDP: a server that takes TCP alone is silent for them.
        let hears = |(_, server): &(_, &ServerSeen)| !matches!(server.probed.udp, Reached::Failed(_));
        let answering = picture.authoritative_servers().filter(hears).count();
        let (servers, failing) = (asked + nowhere, asked + nowhere - answering);
        let mut refused: Vec<_> = all()
            .filter(|finding| finding.is_fault() && REFUSED_BY_VALIDATORS.contains(&finding.code))
            .map(|finding| finding.server)
            .collect();
        refused.sort();
        refused.dedup();
        // What stands above the domain concerns all of its servers.
        let refused = if refused.contains(&None) { servers } else { refused.len() };
        let denying = picture.parent.iter().filter(|answer| answer.denies).count();
        let denied = denying > 0 && all().any(|finding| finding.is_fault() && finding.code == "parents-differ");
        match &picture.registered {
            Registered::No => Verdict::NotRegistered,
            Registered::Unknown(_) => Verdict::Unknown,
            Registered::Yes if servers > 0 && answering == 0 => Verdict::Fails,
            Registered::Yes if denied => Verdict::DeniedBySome { denying, servers: picture.parent.len() },
            Registered::Yes if refused > 0 => Verdict::Validators { failing: refused, servers },
            Registered::Yes if failing > 0 && all().any(Finding::is_fault) => Verdict::Some { failing, servers },
            Registered::Yes if faults > 0 => Verdict::Faults(faults),
            Registered::Yes => match waits_until {
                Some(until) => Verdict::Waiting(until),
                None if risks > 0 => Verdict::Risks(risks),
                None => Verdict::Well,
            },
        }
    }

    /// One word for programs.
    pub fn word(&self) -> &'static str {
        match self {
            Verdict::Well => "well",
            Verdict::Risks(_) => "risks",
            Verdict::Waiting(_) => "waiting",
            Verdict::Faults(_) => "faults",
            Verdict::Some { .. } | Verdict::DeniedBySome { .. } => "works-for-some",
            Verdict::Validators { .. } => "validators-refuse",
            Verdict::Fails => "fails",
            Verdict::NotRegistered => "not-registered",
            Verdict::Unknown => "unknown",
        }
    }

    /// Whether somebody notices, or would if the world were asked as it is wanted.
    pub fn is_fault(&self) -> bool {
        !matches!(self, Verdict::Well | Verdict::Risks(_) | Verdict::Waiting(_))
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

    fn seen(states: &[ServerState]) -> Picture {
        use crate::delegation::{NameserverSeen, Probed, ServerSeen};
        let server = |(number, state): (usize, &ServerState)| ServerSeen {
            address: format!("192.0.2.{number}:53").parse().unwrap(),
            state: state.clone(),
            probed: Probed::default(),
            hosts: vec![],
        };
        let nameserver =
            |servers| NameserverSeen { name: DnsName::root(), glue: vec![], addresses: vec![], alias: None, servers };
        let nameservers = states.iter().enumerate().map(|one| nameserver(vec![server(one)])).collect();
        Picture { registered: Registered::Yes, nameservers, ..Picture::unasked(DnsName::root()) }
    }

    #[test]
    fn it_says_who_notices() {
        let good = || ServerState::Authoritative { serial: 7, nameservers: vec![] };
        let fault = |code: &'static str| {
            let text = RuleText { code, severity: Severity::Fault, what: "", why: "", cure: "", source: "" };
            text.finding("gullrock.example", "", "").at("192.0.2.0:53".parse().unwrap())
        };
        let of = |states: &[ServerState], code: &'static str| Verdict::of(&seen(states), &[fault(code)]);
        let some = of(&[good(), ServerState::Silent], "server-silent");
        assert_eq!((some.word(), some), ("works-for-some", Verdict::Some { failing: 1, servers: 2 }));
        assert_eq!(of(&[ServerState::Silent, ServerState::NoSuchDomain], "server-silent"), Verdict::Fails);
        assert_eq!(of(&[good(), good()], "nameservers-not-as-expected"), Verdict::Faults(1));
        assert_eq!(
            of(&[good(), ServerState::NoRoute], "glue-missing"),
            Verdict::Faults(1),
            "no way to ask says nothing"
        );
        let validators = of(&[good(), good()], "ds-for-another-key");
        assert_eq!(validators, Verdict::Validators { failing: 1, servers: 2 });
        let mut nowhere = seen(&[good(), good()]);
        nowhere.nameservers[0].servers.clear();
        assert_eq!(Verdict::of(&nowhere, &[fault("glue-missing")]), Verdict::Some { failing: 1, servers: 2 });
        assert!(Verdict::of(&seen(&[]), &[fault("x")]).is_fault());
        // It counts as well where it is put under its cause.
        let under = Finding { follows: vec![fault("signature-expired")], severity: Severity::Risk, ..fault("made-up") };
        assert_eq!(Verdict::of(&seen(&[good()]), &[under]).word(), "validators-refuse");
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

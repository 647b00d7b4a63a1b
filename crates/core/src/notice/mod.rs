//! Notices for the command of `[notify]` in the settings: one for each change of a state, and a reminder as long as it lasts.
//!
//! Pure: what is wrong now and what was reported come in, notices go out. Running the command is for `brightharbor-io`.

mod found;

use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

/// What a notice is about. The words are the codes of the JSON.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Topic {
    /// A certificate was issued and installed: an event, which does not last.
    CertificateRenewed,
    /// One that is to be got could not be.
    CertificateFailing,
    /// One that nobody here renews will be over soon.
    CertificateEnding,
    CertificateExpired,
    CertificateRevoked,
    /// One that demands its CA's statement in each handshake is about to be without one, or is.
    StapleMissing,
    /// A service or another site could not be given the certificate that it needs.
    ServiceBehind,
    /// Nobody, or the wrong servers, are asked for a name.
    DelegationBroken,
    /// A visitor of a name is stopped further on.
    LinkBroken,
    /// A nameserver has another zone than it should, or does not answer for it.
    ZoneBehind,
    /// There is no copy of the inventory today.
    BackupFailed,
}

/// Something that is as it should not be, or has just come about.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Condition {
    pub topic: Topic,
    /// The site, hostname, zone or service.
    pub subject: String,
    /// The finding's own code, where there is one: another one is another state.
    pub code: Option<String>,
    pub reason: String,
}

impl Condition {
    /// One that needs no code.
    pub fn plain(topic: Topic, subject: &str, reason: &str) -> Self {
        Self { topic, subject: subject.into(), code: None, reason: reason.into() }
    }
}

/// A condition that was reported, and that has lasted since.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Told {
    pub topic: Topic,
    pub subject: String,
    pub code: Option<String>,
    pub since: Timestamp,
    /// When it was reported last.
    pub told: Timestamp,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Turn {
    Begins,
    /// It is another thing now, or time for a reminder.
    GoesOn,
    Ends,
    /// Nothing that lasts.
    Happened,
}

/// A notice to be sent.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Notice {
    pub turn: Turn,
    pub condition: Condition,
    pub since: Timestamp,
}

/// The notices to be sent about what was found. `looked_at`: whether something reported earlier was looked at again this time,
/// so that its absence means something.
pub fn notices(
    found: Vec<Condition>,
    told: &[Told],
    looked_at: impl Fn(&Told) -> bool,
    reminder: SignedDuration,
    now: Timestamp,
) -> Vec<Notice> {
    let same = |condition: &Condition, told: &Told| condition.topic == told.topic && condition.subject == told.subject;
    let ended: Vec<Notice> = told
        .iter()
        .filter(|told| looked_at(told) && !found.iter().any(|condition| same(condition, told)))
        .map(|told| {
            let condition = Condition { code: told.code.clone(), ..Condition::plain(told.topic, &told.subject, "") };
            Notice { turn: Turn::Ends, condition, since: told.since }
        })
        .collect();
    let going = found.into_iter().filter_map(|condition| {
        if condition.topic == Topic::CertificateRenewed {
            return Some(Notice { turn: Turn::Happened, condition, since: now });
        }
        match told.iter().find(|told| same(&condition, told)) {
            None => Some(Notice { turn: Turn::Begins, condition, since: now }),
            Some(told) if told.code != condition.code || now.duration_since(told.told) >= reminder => {
                Some(Notice { turn: Turn::GoesOn, condition, since: told.since })
            }
            Some(_) => None,
        }
    });
    going.chain(ended).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    const DAY: SignedDuration = SignedDuration::from_hours(24);

    fn at(hour: i64) -> Timestamp {
        Timestamp::from_second(1_795_780_000 + hour * 3600).unwrap()
    }

    fn broken(subject: &str, code: &str) -> Condition {
        let code = Some(code.to_string());
        Condition { topic: Topic::LinkBroken, subject: subject.into(), code, reason: "r".into() }
    }

    fn told(subject: &str, code: &str, told: i64) -> Told {
        let code = Some(code.to_string());
        Told { topic: Topic::LinkBroken, subject: subject.into(), code, since: at(0), told: at(told) }
    }

    fn turns(found: &[Condition], told: &[Told], hour: i64) -> Vec<(Turn, String, Timestamp)> {
        let made = notices(found.to_vec(), told, |_| true, DAY, at(hour));
        made.into_iter().map(|notice| (notice.turn, notice.condition.subject, notice.since)).collect()
    }

    #[test]
    fn each_change_is_told_once() {
        let (quay, yard) = (broken("quay.example", "closed"), broken("yard.example", "closed"));
        assert_eq!(turns(std::slice::from_ref(&quay), &[], 1), [(Turn::Begins, "quay.example".into(), at(1))]);
        let known = [told("quay.example", "closed", 1)];
        assert!(turns(std::slice::from_ref(&quay), &known, 2).is_empty());
        assert_eq!(turns(&[quay.clone(), yard], &known, 2), [(Turn::Begins, "yard.example".into(), at(2))]);
        assert_eq!(turns(&[], &known, 2), [(Turn::Ends, "quay.example".into(), at(0))]);
        // Another reason is another state, and a day later it is time for a reminder.
        let other = broken("quay.example", "not-here");
        assert_eq!(turns(&[other], &known, 2), [(Turn::GoesOn, "quay.example".into(), at(0))]);
        assert!(turns(std::slice::from_ref(&quay), &known, 24).is_empty());
        assert_eq!(turns(&[quay], &known, 25), [(Turn::GoesOn, "quay.example".into(), at(0))]);
    }

    #[test]
    fn what_was_not_looked_at_has_not_ended() {
        let known = [told("quay.example", "closed", 0), told("yard.example", "closed", 0)];
        let ended = notices(vec![], &known, |told| told.subject == "yard.example", DAY, at(1));
        assert_eq!(ended.len(), 1);
        assert_eq!((ended[0].turn, ended[0].condition.subject.as_str()), (Turn::Ends, "yard.example"));
    }

    #[test]
    fn what_has_come_about_is_told_each_time() {
        let renewed = Condition { topic: Topic::CertificateRenewed, ..broken("quay.example", "x") };
        for _ in 0..2 {
            assert_eq!(turns(std::slice::from_ref(&renewed), &[], 3), [(Turn::Happened, "quay.example".into(), at(3))]);
        }
    }
}

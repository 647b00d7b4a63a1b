//! When another CA of the settings steps in for one that does not answer. Which ones may is the administrator's word
//! (`fallback` of the CA); that none of them gets fewer names is seen to where it is ordered.

use jiff::{SignedDuration, Timestamp};

use super::Kept;
use crate::certificate::{Certificate, CertificateWish};

/// CAs are out of order now and then: a certificate that has weeks left can wait.
const PATIENCE: SignedDuration = SignedDuration::from_hours(24);
/// Where visitors are waiting.
const SHORT_PATIENCE: SignedDuration = SignedDuration::from_hours(1);

/// Whether a CA has been silent for so long that another one is asked. `present` is what is served meanwhile.
pub fn steps_in(silent_since: Timestamp, present: Option<&Certificate>, now: Timestamp) -> bool {
    let can_wait = present.is_some_and(|one| one.is_good(now) && now < Kept::of(one).urgent_from);
    now.duration_since(silent_since) >= if can_wait { PATIENCE } else { SHORT_PATIENCE }
}

/// What of a wish cannot be met.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Unmet {
    /// The CA does not offer the profile any more.
    Profile,
    /// The CA refuses the demand for its statement in each handshake, or makes none.
    Staple,
}

/// The rest of the wish, where there is time for nothing else.
pub fn rest_of(wish: &CertificateWish, unmet: Unmet) -> CertificateWish {
    match unmet {
        Unmet::Profile => CertificateWish { profile: None, ..wish.clone() },
        Unmet::Staple => CertificateWish { stapled: false, ..wish.clone() },
    }
}

/// Whether another kind of certificate is taken where the one that was wished for cannot be had any more: only before
/// visitors would be shown one that has expired.
pub fn takes_any_kind(present: Option<&Certificate>, now: Timestamp) -> bool {
    present.is_some_and(|one| !one.is_good(now) || now >= Kept::of(one).urgent_from)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::certificate::{CertificateDetails, CertificateFiles, CertificateSource, CertificateState};
    use crate::name::Host;

    #[test]
    fn what_cannot_be_met_goes_and_the_rest_of_the_wish_stays() {
        let profile = Some("week".to_string());
        let wish = CertificateWish { profile: profile.clone(), stapled: true, keep_key: true, ..Default::default() };
        let rest = rest_of(&wish, Unmet::Staple);
        assert_eq!((&rest.profile, rest.stapled, rest.keep_key), (&profile, false, true));
        let rest = rest_of(&wish, Unmet::Profile);
        assert_eq!((&rest.profile, rest.stapled, rest.keep_key), (&None, true, true));
    }

    #[test]
    fn a_day_is_waited_while_a_good_certificate_is_served_and_an_hour_otherwise() {
        let at = |text: &str| text.parse::<Timestamp>().unwrap();
        let mut present = Certificate {
            site: Host::parse("gullrock.example").unwrap(),
            names: vec![],
            files: CertificateFiles { folder: "/harbor".into() },
            not_before: at("2026-11-01T00:00:00Z"),
            not_after: at("2027-01-30T00:00:00Z"),
            state: CertificateState::Served,
            source: CertificateSource::Ca,
            details: CertificateDetails::default(),
        };
        let (since, hour, day) = (at("2026-12-01T00:00:00Z"), at("2026-12-01T01:00:00Z"), at("2026-12-02T00:00:00Z"));
        let second = SignedDuration::from_secs(1);
        assert!(!steps_in(since, Some(&present), hour) && !steps_in(since, Some(&present), day - second));
        assert!(steps_in(since, Some(&present), day));
        assert!(!takes_any_kind(None, day) && !takes_any_kind(Some(&present), day));
        let urgent_from = Kept::of(&present).urgent_from;
        assert!(!takes_any_kind(Some(&present), urgent_from - second) && takes_any_kind(Some(&present), urgent_from));
        assert!(!steps_in(since, None, hour - second) && steps_in(since, None, hour));
        present.not_after = at("2026-12-03T00:00:00Z");
        assert!(steps_in(since, Some(&present), hour), "it is urgent");
        present.state = CertificateState::Revoked;
        present.not_after = at("2027-01-30T00:00:00Z");
        assert!(steps_in(since, Some(&present), hour) && takes_any_kind(Some(&present), hour), "nobody trusts it");
    }
}

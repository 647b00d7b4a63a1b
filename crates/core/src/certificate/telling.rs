//! The decisions to tell a CA something about the harbor's account there.

use crate::change::{CaErrand, Change, Consent, Plan, ToldToCa};

/// Decides what to send to a CA of the settings. Closing the account needs a consent, since there is no way back.
pub fn tell_ca(command: &str, ca: &str, told: ToldToCa) -> Plan {
    let mut plan = Plan::new(format!("{command} {ca}"));
    if told == ToldToCa::Closing {
        plan.needs_consent(Consent::ClosesCaAccount { ca: ca.to_string() });
    }
    plan.change(Change::TellCa(CaErrand { ca: ca.to_string(), told }));
    plan
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_closing_an_account_has_to_be_consented_to() {
        assert!(tell_ca("ca change-key", "pier", ToldToCa::AnotherKey).consents.is_empty());
        let plan = tell_ca("ca close", "pier", ToldToCa::Closing);
        assert_eq!(plan.consents, [Consent::ClosesCaAccount { ca: "pier".into() }]);
        assert_eq!((plan.set.title.as_str(), plan.set.changes.len()), ("ca close pier", 1));
    }
}

//! A plan: what a command has decided, whole. What is shown is this value, and this value is carried out.
//!
//! Every changing command has a `decide` function in its topic's folder that gives one. The words for people are made
//! where it is shown; carrying it out is for `brightharbor-io`.

use super::{Change, ChangeSet, Consent, InventoryChange, Remark};
use crate::site::Site;

/// The changes, what is worth telling about them, and what somebody has to consent to first.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Plan {
    pub set: ChangeSet,
    /// What was made of the request, in the order it is reported.
    pub remarks: Vec<Remark>,
    /// Each a fact that nobody may be surprised by. Without all of them nothing is carried out.
    pub consents: Vec<Consent>,
}

impl Plan {
    /// A plan without changes; `title` is the command in words, for the logbook.
    pub fn new(title: impl Into<String>) -> Self {
        Self { set: ChangeSet::new(title), remarks: vec![], consents: vec![] }
    }

    /// Whether there is nothing to carry out.
    pub fn is_empty(&self) -> bool {
        self.set.is_empty()
    }

    /// Whether something that was there is not there any more afterwards.
    pub fn takes_away(&self) -> bool {
        let goes = |change: &Change| match change {
            Change::RemoveFile(_) => true,
            Change::Inventory { to } => matches!(
                to,
                InventoryChange::RemoveAccount(_)
                    | InventoryChange::RemovePlan(_)
                    | InventoryChange::RemoveNameservers { .. }
                    | InventoryChange::RemoveSite(_)
                    | InventoryChange::RemoveZone(_)
            ),
            _ => false,
        };
        self.set.changes.iter().any(goes) || self.remarks.iter().any(Remark::takes_away)
    }

    pub fn remark(&mut self, remark: impl Into<Remark>) {
        self.remarks.push(remark.into());
    }

    /// The same fact is asked about once.
    pub fn needs_consent(&mut self, consent: Consent) {
        if !self.consents.contains(&consent) {
            self.consents.push(consent);
        }
    }

    pub fn change(&mut self, change: Change) {
        self.set.changes.push(change);
    }

    /// A site of it as it will be from then on, if one changes or comes.
    pub fn changed_site(&self) -> Option<&Site> {
        self.set.inventory_changes().find_map(|change| match change {
            InventoryChange::ReplaceSite { after, .. } | InventoryChange::AddSite(after) => Some(after),
            _ => None,
        })
    }

    /// Takes over what was decided on top of this plan, in many decisions.
    pub fn extend_all(&mut self, others: Vec<Plan>) {
        let mut changes = Vec::new();
        for other in others {
            changes.extend(other.set.changes);
            self.remarks.extend(other.remarks);
            other.consents.into_iter().for_each(|consent| self.needs_consent(consent));
        }
        self.set.extend(changes);
    }

    /// Takes over what was decided on top of this plan.
    pub fn extend(&mut self, other: Plan) {
        self.extend_all(vec![other]);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_consent_is_asked_for_once_however_many_decisions_need_it() {
        let consent = Consent::ClosesCaAccount { ca: "default".into() };
        let mut plan = Plan::new("one");
        plan.needs_consent(consent.clone());
        let mut further = Plan::new("two");
        further.needs_consent(consent.clone());
        further.remark(Remark::Unchanged);
        plan.extend(further);
        assert_eq!((&plan.consents[..], &plan.remarks[..]), (&[consent][..], &[Remark::Unchanged][..]));
        assert!(plan.is_empty() && plan.set.title == "one");
    }
}

//! Nameserver sets: names that domains are delegated to together. What can be typed for one, and the decisions to add,
//! change and remove one.

mod change;
mod expected;
mod refusal;
mod remark;
mod set;
mod sides;

pub use change::{
    AddSet, ChangeSet, ChangeSetLoaded, KnownSet, MemberZone, MemberZones, ReadySeen, add_set, change_set, moving,
    remove_set,
};
pub use expected::{at_registrar, expected, set_to_count};
pub use refusal::NameserverRefusal;
pub use remark::{Move, NameserverRemark, Weakness};
pub use set::{AlignedAddresses, Member, MemberError, align_addresses, set_of, weaknesses};
pub use sides::{Answering, HostSeen, InZone, NextStep, Registration, Said};

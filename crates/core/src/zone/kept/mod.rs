//! Zones of the inventory: where each is kept, and the decisions to make, bring in step and remove one.
//!
//! What a zone says, and how its text is edited, is decided by the modules above; reading one from where it is kept is
//! for `brightharbor-io`.

mod align;
mod alter_kept;
mod catalog;
mod change;
mod create;
mod holders;
mod in_step;
mod kept_zone;
mod load_zones;
mod model;
mod new_zone;
mod prepare;
mod publish;
mod refusal;
mod remark;
mod removal;
mod signing;
mod soa_wish;
mod take_over;

pub use align::{AlignRefused, Aligned, align, delegated_to, made_by};
pub use alter_kept::{alter_kept, alter_loose};
pub use catalog::{catalog_difference, new_catalog, updated_at};
pub use change::{ChangeZone, ChangeZoneLoaded, change_zone};
pub use create::{CreateZone, CreateZoneLoaded, ZoneOrigin, create_zone, design_for};
pub use holders::{Holder, Holding, Serials, holders, newest_of, own_servers, secondaries};
pub use in_step::{Movable, ReadZone, Realignable, WhyLeft, ZoneOutcome, move_zones, realign};
pub use kept_zone::{KeptZone, ZonePlace};
pub use load_zones::{LoadOutcome, LoadRefused, Loadable, load_zones, serves_all_of};
pub use model::{Zone, ZoneHome};
pub use new_zone::{MadeZone, NewZone, NewZoneFiles, NewZoneRefused, ZoneDesign, new_zone};
pub use prepare::{Prepared, PreparedSet, prepare_move, put_back, ready_at, ttls};
pub use publish::{PublishLoaded, parts, publish};
pub use refusal::ZoneRefusal;
pub use remark::ZoneRemark;
pub use removal::{ZoneRemoval, ZoneRemovalFiles, forget_zone, remove_zone};
pub use signing::{
    DsSeen, KeyAnswers, KeyState, ParentDs, ParentNews, Signing, SigningLoaded, SigningRefused, key_states,
    parent_news, remember_parent, sign, sign_no_more,
};
pub use soa_wish::{SoaWish, mailbox, soa_times};
pub use take_over::{StaysAsItIs, TakeOverLoaded, take_over};

//! Zones of the inventory: where each is kept, and the decisions to make, bring in step and remove one.
//!
//! What a zone says, and how its text is edited, is decided by the modules above; reading one from where it is kept is
//! for `brightharbor-io`.

mod align;
mod catalog;
mod kept_zone;
mod model;
mod new_zone;
mod removal;

pub use align::{AlignRefused, Aligned, align, delegated_to, made_by};
pub use catalog::{catalog_difference, new_catalog, updated_at};
pub use kept_zone::{KeptZone, ZonePlace};
pub use model::{Zone, ZoneHome};
pub use new_zone::{NewZone, NewZoneFiles, NewZoneRefused, ZoneDesign, new_zone};
pub use removal::{ZoneRemovalFiles, remove_zone};

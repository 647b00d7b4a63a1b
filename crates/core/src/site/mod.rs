//! Sites as the inventory holds them, and the decisions to attach, change and detach hostnames.
//!
//! Values and decisions only: the inventory's tables are in `brightharbor-io`, web server files in `render`.

mod attach;
mod attach_places;
mod change;
mod detach;
mod model;
mod served_elsewhere;

pub use attach::{
    AttachLoaded, AttachRefused, AttachRequest, Attachment, ServedFrom, ZoneChoice, ZoneLoaded, attach, wanted_names,
};
pub use attach_places::document_root;
pub use change::change_site;
pub use detach::{DetachLoaded, ZoneFate, detach, leaving};
pub use model::{HttpsPolicy, HttpsState, Site, SiteKind, SiteRules, TlsFloor, WwwPolicy};

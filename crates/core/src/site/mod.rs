//! Accounts, sites and zones as the inventory holds them, and the decision to attach one more hostname.
//!
//! Values and decisions only: the inventory's tables are in `brightharbor-io`, web server files in `render`.

mod account;
mod align;
mod attach;
mod attach_places;
mod catalog;
mod certificate_wish;
mod change;
mod demand;
mod demanding;
mod detach;
mod kept_zone;
mod model;
mod nameserver_set;
mod new_zone;
mod path;
mod plan;
mod served_elsewhere;

pub use account::{
    Account, AccountName, AccountNameError, EmailError, SystemUserError, check_email, check_system_user,
};
pub use align::{AlignRefused, Aligned, align, delegated_to, made_by};
pub use attach::{
    AttachLoaded, AttachRefused, AttachRequest, Attachment, ExistingFile, ServedFrom, ZoneChoice, ZoneLoaded, attach,
    wanted_names,
};
pub use attach_places::document_root;
pub use catalog::{catalog_difference, new_catalog, updated_at};
pub use certificate_wish::{CertificateWish, KeyKind, Means, ProofWish};
pub use change::change_site;
pub use demand::{Demand, DemandError, DemandedProof, MOST_CONTENT, USUAL_FOLDER};
pub use demanding::{DemandedFile, demanded_files, demanded_records, zone_in_step};
pub use detach::{DetachLoaded, ZoneFate, ZoneRemovalFiles, detach, leaving, remove_zone};
pub use kept_zone::{KeptZone, ZonePlace};
pub use model::{
    Certificate, CertificateDetails, CertificateFiles, CertificateSource, CertificateState, HttpsPolicy, HttpsWish,
    Revocation, Site, SiteKind, SiteRules, TlsFloor, Waiting, WwwPolicy, Zone, ZoneHome,
};
pub use nameserver_set::{Member, MemberError, align_addresses, set_of, weaknesses};
pub use new_zone::{NewZone, NewZoneFiles, NewZoneRefused, ZoneDesign, new_zone};
pub use path::{PathError, check_path};
pub use plan::{Counted, LimitReached, Limits, Plan, Usage, check_limit};

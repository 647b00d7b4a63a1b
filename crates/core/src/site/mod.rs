//! Sites as the inventory holds them, and the decisions to attach, change and detach hostnames.
//!
//! Values and decisions only: the inventory's tables are in `brightharbor-io`, web server files in `render`.

mod answered;
mod attach;
mod attach_beside;
mod attach_places;
mod attach_zone;
mod change;
mod content;
mod detach;
mod guard;
mod hand_over;
mod https;
mod logs;
mod model;
mod pools;
mod protect;
mod realign;
mod refusal;
mod remark;
mod served_elsewhere;
mod unknown_hosts;

pub use answered::{Answered, AnsweredBefore, CertificateAnswered, PageAnswered, STRANGERS, has_its_own};
pub use attach::{
    AttachLoaded, AttachRequest, Attachment, ServedFrom, ZoneChoice, ZoneLoaded, attach, preview_of,
    refuse_beyond_plan, wanted_names,
};
pub use attach_beside::ByHand;
pub(crate) use attach_beside::ask_for_answered;
pub use attach_places::document_root;
pub(crate) use change::ask_for_htaccess;
pub use change::{
    ChangeSite, ChangeSiteLoaded, TwinLoaded, ask_for_hand_edit, change_site, decide_change, hand_edit, missing_twin,
};
pub use content::{
    Answering, Cached, Content, ContentError, ContentWish, Overridable, Part, Upstream, is_at_or_below, parse_names,
    parse_overridable, parse_part, parse_path, parse_size,
};
pub use detach::{DetachLoaded, ZoneFate, detach, leaving};
pub use guard::{Guard, GuardError, Network, check_user};
pub use hand_over::{HandOverLoaded, hand_over};
pub use https::{HttpsState, HttpsStates};
pub use logs::{SiteLogs, logging_accounts, with_log_folders, written_sites};
pub use model::{HttpsPolicy, Site, SiteKind, SiteRules, TlsFloor, WwwPolicy};
pub use pools::{PoolLoaded, moved_accounts, pool_out_of_step, touched_pools, with_pools};
pub use protect::{Protect, ProtectLoaded, protect};
pub use realign::{FILES_AT_ONCE, SiteFileState, SiteOutOfStep, first_of_part, out_of_step, realign_sites};
pub use refusal::SiteRefusal;
pub use remark::SiteRemark;
pub use served_elsewhere::detach_alias;
pub use unknown_hosts::{
    UnknownHostsLoaded, concerns_unknown_hosts, is_https_served, touched_sites, with_unknown_hosts,
};

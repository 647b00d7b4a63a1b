//! What each decision rests on, read from the inventory, the files and, where that is needed, the network: a loader a use
//! case. Nothing is decided here, and nothing is changed.

mod account;
mod answered;
mod attach;
mod certificate;
mod detach;
mod former;
mod former_files;
mod guard;
mod hand_edits;
mod logs;
mod nameserver;
mod own_directives;
mod pools;
mod present;
mod redirect;
mod server_zones;
mod settings;
mod signing;
mod site;
mod staples;
mod undo;
mod unknown_hosts;
mod zone;

pub use account::{add_account, change_account, find_account, remove_account};
pub use answered::ask_ahead;
pub use attach::{attach, listener_clash, new_zone_files};
pub use certificate::{
    chain_and_key, demands, installed_chain, receiving, revoked_elsewhere, service_seen, waiting_keys,
};
pub use detach::{Leaving, detach, leaving, zone_removal};
pub use former::{ZoneCompared, ask_next_servers, compare_zone, losses};
pub use former_files::{FormerFound, UnderWay, UnderWayKind, former_of, under_way};
pub use guard::protect;
pub use hand_edits::{LoadedFiles, edited_by_hand, loaded_files};
pub use logs::without_log_folder;
pub use nameserver::{change_set, known_set, member_zones};
pub use own_directives::{OthersMayWrite, own_directives};
pub use pools::{pools, pools_of};
pub use present::{listed_records, present};
pub use redirect::{add_redirects, site_of_source, sites_with_files};
pub use server_zones::{server_zones, take_over};
pub use settings::settings_file;
pub use signing::{ds_at_parent, key_answers, signing};
pub use site::{change_site, hand_over};
pub use staples::{StapleSeen, staples};
pub use undo::undo;
pub use unknown_hosts::unknown_hosts;
pub use zone::{DesignChange, change_zone, create_zone, loadable, movable, publish, realignable, surroundings};

use brightharbor_core::name::Host;

use crate::dns::KeyFileError;
use crate::install::FileError;
use crate::overlay::NotAsked;
use crate::store::StoreError;
use crate::zones::ZoneReadError;

/// Why something could not be read.
#[derive(Debug, thiserror::Error)]
pub enum LoadError {
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error(transparent)]
    File(#[from] FileError),
    #[error(transparent)]
    Zone(#[from] ZoneReadError),
    #[error(transparent)]
    Key(#[from] KeyFileError),
    #[error(transparent)]
    NotAsked(#[from] NotAsked),
    #[error(transparent)]
    OthersMayWrite(#[from] OthersMayWrite),
    #[error("{0} is not attached")]
    NotAttached(Host),
}

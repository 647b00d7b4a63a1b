//! Putting things in place: files atomically, document roots without following a link, certificates only if whole.

mod attributes;
mod certificate_files;
mod clear;
mod disk;
mod files;
mod folders;
mod layout;
mod many;
mod open_keys;
mod service;
mod starter;
mod users;
mod walk;

pub use attributes::{OneEdit, one_edit_at_a_time};
pub use certificate_files::{CertificateFault, CertificateFilesSeen, check_certificate_files};
pub use clear::clear_away;
pub use disk::disk_used;
pub use files::{
    FileError, link_target, make_private_folder, place_and_mode, read_at_most, read_if_there, replace_if_unchanged,
    write_atomically, write_in_place,
};
pub(crate) use files::{UNFINISHED, failed, link, remove as remove_file, sync_folder, write_in_its_place};
pub(crate) use folders::remove_empty;
pub use folders::{FolderError, make_folder};
pub(crate) use layout::make_open;
pub use layout::{closed_above, lay_out, settings_place, write_settings};
pub(crate) use many::{Wanted, write_all_atomically};
pub use open_keys::{open_keys, open_keys_below};
pub use service::{
    ServiceError, folder_for, leads_to, place_for_service, reload_service, service_has, take_from_service,
};
pub use users::{is_root, user_exists};
pub(crate) use users::{make_user, remove_user};
pub use walk::{read_beneath, read_regular, rely_on};

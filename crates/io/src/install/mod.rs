//! Putting things in place: files atomically, document roots without following a link, certificates only if whole.

mod certificate_files;
mod files;
mod folders;
mod layout;

pub use certificate_files::{CertificateFault, check_certificate_files};
pub(crate) use files::remove as remove_file;
pub use files::{FileError, make_private_folder, read_if_there, write_atomically};
pub use folders::{FolderError, make_folder};
pub use layout::lay_out;

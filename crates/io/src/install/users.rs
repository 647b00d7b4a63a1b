//! System users that own the folders of accounts: made with the system's own `useradd`, taken back with `userdel`.
//!
//! Without password and login shell; the home is only noted, folders are made in `folders`.

use brightharbor_core::change::UserMake;

use crate::server::{ServerError, run_bounded};

/// Whether the system knows the user.
pub fn user_exists(name: &str) -> bool {
    uzers::get_user_by_name(name).is_some()
}

/// Whether this program may make users and give folders away.
pub fn is_root() -> bool {
    rustix::process::geteuid().is_root()
}

/// Makes the user with a group of its own.
pub fn make_user(make: &UserMake) -> Result<(), ServerError> {
    let home = make.home.to_string_lossy();
    let words = ["useradd", "--no-create-home", "--user-group", "--shell", "/usr/sbin/nologin", "--home-dir", &home];
    run(&words, &make.name)
}

/// Takes a user away that this program has made; files stay.
pub fn remove_user(name: &str) -> Result<(), ServerError> {
    if user_exists(name) { run(&["userdel"], name) } else { Ok(()) }
}

fn run(words: &[&str], name: &str) -> Result<(), ServerError> {
    let words: Vec<String> = words.iter().map(ToString::to_string).collect();
    run_bounded(&words, &["--".to_string(), name.to_string()]).map(drop)
}

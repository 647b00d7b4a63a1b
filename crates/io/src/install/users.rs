//! System users that own the folders of accounts: made with the system's own `useradd`, taken back with `userdel`.
//!
//! Without password and login shell; the home is only noted, folders are made in `folders`.

use std::path::Path;

use brightharbor_core::change::UserMake;
use uzers::User;
use uzers::os::unix::UserExt;

use crate::server::{ServerError, run_bounded};

const NO_LOGIN: &str = "/usr/sbin/nologin";

/// Whether the system knows the user, by whatever name service.
pub fn user_exists(name: &str) -> bool {
    uzers::get_user_by_name(name).is_some()
}

/// Whether this program may make users and give folders away.
pub fn is_root() -> bool {
    rustix::process::geteuid().is_root()
}

/// Makes the user with a group of its own.
pub async fn make_user(make: &UserMake) -> Result<(), ServerError> {
    let home = make.home.to_string_lossy();
    let program = program("useradd");
    let words = [&*program, "--no-create-home", "--user-group", "--shell", NO_LOGIN, "--home-dir", &home];
    run(&words, &make.name).await
}

/// Takes a user away that this program has made; files stay. One that somebody else has made since, under the same name,
/// has another home or a shell to log in with, and is left alone.
pub async fn remove_user(name: &str, home: &Path) -> Result<(), ServerError> {
    let ours = |user: &User| user.home_dir() == home && user.shell() == Path::new(NO_LOGIN);
    if uzers::get_user_by_name(name).is_some_and(|user| ours(&user)) {
        run(&[&program("userdel")], name).await
    } else {
        Ok(())
    }
}

/// Where systems have it; what `PATH` says is not asked.
fn program(name: &str) -> String {
    let places = ["/usr/sbin", "/sbin", "/usr/local/sbin"].map(|folder| format!("{folder}/{name}"));
    let there = places.iter().find(|place| Path::new(place).exists());
    there.unwrap_or(&places[0]).clone()
}

async fn run(words: &[&str], name: &str) -> Result<(), ServerError> {
    let words: Vec<String> = words.iter().map(ToString::to_string).collect();
    run_bounded(&words, &["--".to_string(), name.to_string()]).await.map(drop)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_user_that_is_not_as_it_would_be_made_is_left_alone() {
        // root is on every system, with another home and a shell.
        remove_user("root", Path::new("/home/root")).await.unwrap();
        assert!(user_exists("root") && !user_exists("nobody-of-that-name"));
        remove_user("nobody-of-that-name", Path::new("/nowhere")).await.unwrap();
    }
}

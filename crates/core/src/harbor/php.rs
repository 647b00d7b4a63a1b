//! The versions of PHP that run in pools of the accounts, as `harbor.toml` names them: `[php."8.2"]`.

use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::account::AccountName;

/// One version: its pool manager (PHP-FPM), with the folder that it reads pools from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Php {
    /// Where the manager reads its pools from; they are written there.
    pub pool_folder: PathBuf,
    /// Its test of all pools, as a command with its arguments.
    pub test: Vec<String>,
    pub reload: Vec<String>,
    /// Where the sockets of the pools lie.
    #[serde(default = "usual_sockets")]
    pub socket_folder: PathBuf,
    /// How many scripts of an account run at once.
    #[serde(default = "usual_children")]
    pub children: u32,
    /// What one script may have, in MiB.
    #[serde(default = "usual_memory")]
    pub memory: u32,
}

fn usual_sockets() -> PathBuf {
    "/run/php".into()
}

fn usual_children() -> u32 {
    5
}

fn usual_memory() -> u32 {
    128
}

impl Php {
    /// A manager as it was found, with everything else as usual.
    pub fn of(pool_folder: &Path, test: &[String], reload: &[String]) -> Self {
        Self {
            pool_folder: pool_folder.to_path_buf(),
            test: test.to_vec(),
            reload: reload.to_vec(),
            socket_folder: usual_sockets(),
            children: usual_children(),
            memory: usual_memory(),
        }
    }

    /// The file of an account's pool.
    pub fn pool_file(&self, account: &AccountName) -> PathBuf {
        self.pool_folder.join(format!("brightharbor-{account}.conf"))
    }

    /// The socket that the pool of an account listens at.
    pub fn socket(&self, version: &str, account: &AccountName) -> PathBuf {
        socket_in(&self.socket_folder, version, account)
    }
}

/// The socket of a pool in a folder; of one that the settings do not have any more as well.
pub fn socket_in(folder: &Path, version: &str, account: &AccountName) -> PathBuf {
    folder.join(format!("brightharbor-{version}-{account}.sock"))
}

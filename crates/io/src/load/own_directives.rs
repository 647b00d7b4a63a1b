//! The directives that an administrator has written for a site, beside what is written here: `own/SERVER/NAME.conf`. They
//! are known by their hash, which is part of the site; the web server reads the file itself.

use std::path::{Path, PathBuf};

use brightharbor_core::change::content_hash;
use brightharbor_core::harbor::{Layout, Settings};
use brightharbor_core::name::Host;

use super::LoadError;
use crate::install::{read_if_there, rely_on};

/// Whoever can write directives of the web server can read every key that it reads.
#[derive(Debug, thiserror::Error)]
#[error("the web server is not to obey {path}: {why}")]
pub struct OthersMayWrite {
    pub path: PathBuf,
    pub why: String,
}

/// The hash of a site's own directives; `None` where there are none.
pub fn own_directives(settings: &Settings, layout: &Layout, main: &Host) -> Result<Option<String>, LoadError> {
    let Some(path) = layout.own_directives(settings.web.server, main) else { return Ok(None) };
    let Some(content) = read_if_there(&path)? else { return Ok(None) };
    refuse_others(&path)?;
    Ok(Some(content_hash(&content)[..16].to_string()))
}

fn refuse_others(path: &Path) -> Result<(), OthersMayWrite> {
    rely_on(path).map_err(|error| OthersMayWrite { path: path.to_path_buf(), why: error.to_string() })
}

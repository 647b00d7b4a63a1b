//! What setting keys of `harbor.toml` rests on: the file itself.

use brightharbor_core::harbor::SettingsFile;

use super::LoadError;
use crate::install::place_and_mode;
use crate::overlay::Overlay;

/// The settings as they are written. What a link points to is meant, not the link.
pub fn settings_file(overlay: &Overlay<'_>) -> Result<SettingsFile, LoadError> {
    let (path, mode) = place_and_mode(&overlay.layout.settings())?;
    let content = overlay.file(&path)?.unwrap_or_default();
    Ok(SettingsFile { path, content, mode })
}

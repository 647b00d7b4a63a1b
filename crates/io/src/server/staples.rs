//! Whether the web server can show what a CA states of a certificate in handshakes (RFC 6066 section 8).

use brightharbor_core::harbor::{Layout, Settings};
use brightharbor_core::render::stapling_cache_line;

use super::configuration;

/// Says why not, in words. Apache httpd needs a place for statements in its own configuration; without one its test says
/// that all is well, and the reload ends it.
pub fn can_staple(settings: &Settings, layout: &Layout) -> Result<(), String> {
    if !settings.web.server.fetches_staples() {
        return Ok(());
    }
    let Some(main_file) = &settings.web.main_file else {
        return Err(
            "whether Apache httpd has an SSLStaplingCache cannot be seen: `main-file` under [web] is not set".into()
        );
    };
    let files = configuration(main_file, layout.root()).map_err(|error| format!("{}: {error}", main_file.display()))?;
    match files.iter().any(|(_, text)| stapling_cache_line(text).is_some()) {
        true => Ok(()),
        false => Err(format!("the configuration of Apache httpd ({}) has no SSLStaplingCache", main_file.display())),
    }
}

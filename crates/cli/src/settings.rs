//! Reads `harbor.toml`. What is wrong is told with its line.

use std::path::{Path, PathBuf};

use brightharbor_core::delegation::{Ds, read_anchors};
use brightharbor_core::harbor::{Layout, Settings};

use brightharbor_io::install::rely_on;

use crate::error::{Error, Exit};
use crate::files;

/// The settings of the harbor at `root`.
pub fn read(root: &Path) -> Result<Settings, Error> {
    let path = Layout::new(root).settings();
    // They name commands that root will run.
    for relied_on in [root, &path].into_iter().filter(|path| path.exists()) {
        rely_on(relied_on).map_err(|error| {
            Error::refused("others-may-change", format!("not working in {}: {error}", root.display())).advice(
                "give the harbor, and the folders that it lies in, to root, and let nobody else write to them (chown root, \
                 chmod go-w)",
            )
        })?;
    }
    let text = files::read_text(&path).map_err(|error| match error.kind() {
        std::io::ErrorKind::NotFound => {
            Error::new(Exit::WrongUse, "no-harbor", format!("no harbor at {}", root.display()))
                .advice("create one with `brightharbor init`, or name another with --harbor or BRIGHTHARBOR")
        }
        _ => Error::new(Exit::WrongUse, "no-harbor", format!("{}: {error}", path.display()))
            .advice("run it as the user that owns the harbor, usually root"),
    })?;
    let mut settings = parse(&text, &path)?;
    settings.internet.anchors = anchors(&settings.internet.trust_anchors)?;
    Ok(settings)
}

/// What stands in files of trust anchors.
pub fn anchors(files: &[PathBuf]) -> Result<Vec<Ds>, Error> {
    let mut all = Vec::new();
    for file in files {
        let advice = "name a file with the DS or DNSKEY records of the root, as validating resolvers keep it";
        let refused =
            |reason: String| Error::refused("trust-anchors", format!("{}: {reason}", file.display())).advice(advice);
        let text = files::read_text(file).map_err(|error| refused(error.to_string()))?;
        all.extend(read_anchors(&text).map_err(|error| refused(error.to_string()))?);
    }
    Ok(all)
}

/// Reads settings from a text; `path` is for messages.
pub fn parse(text: &str, path: &Path) -> Result<Settings, Error> {
    let settings: Settings = toml::from_str(text).map_err(|error| {
        let line = error.span().map_or(1, |span| 1 + text[..span.start].matches('\n').count());
        let message = format!("{}:{line}: {}", path.display(), error.message());
        Error::new(Exit::WrongUse, "settings", message).advice("correct that line; docs/settings.md explains every key")
    })?;
    // It would never be taken: `default` is that of [ca].
    if settings.cas.contains_key("default") {
        let line = 1 + text.lines().position(|line| line.trim_start().starts_with("[cas.default")).unwrap_or(0);
        let message = format!("{}:{line}: no CA can be called `default`: that is the one of [ca]", path.display());
        return Err(Error::new(Exit::WrongUse, "settings", message).advice("give it another name"));
    }
    let unknown = settings.all_cas().flat_map(|ca| &ca.fallback).find(|name| settings.ca_named(Some(name)).is_none());
    if let Some(unknown) = unknown {
        let named = |line: &str| line.trim_start().starts_with("fallback") && line.contains(unknown.as_str());
        let line = 1 + text.lines().position(named).unwrap_or(0);
        let message =
            format!("{}:{line}: `fallback` names a CA `{unknown}` that the settings do not have", path.display());
        let advice = "name one of [cas.NAME], or `default` for that of [ca]";
        return Err(Error::new(Exit::WrongUse, "settings", message).advice(advice));
    }
    Ok(settings)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_misspelt_key_is_told_with_its_line() {
        let text = "[host]\naddresses = [\"192.0.2.10\"]\n[internet]\nresolver = []\n";
        let error = parse(text, Path::new("/harbor/harbor.toml")).unwrap_err();
        assert!(error.message.starts_with("/harbor/harbor.toml:4: unknown field `resolver`"), "{}", error.message);
        assert_eq!(parse("", Path::new("x")).unwrap(), Settings::default());
    }

    #[test]
    fn no_further_ca_is_the_default_one() {
        let text = "[ca]\ncontact = \"crew@saltmarsh.example\"\n[cas.default]\nterms-accepted = true\n";
        let error = parse(text, Path::new("/harbor/harbor.toml")).unwrap_err();
        assert!(error.message.starts_with("/harbor/harbor.toml:3: no CA can be called `default`"), "{}", error.message);
        assert!(parse(&text.replace("default", "lighthouse"), Path::new("x")).unwrap().cas.contains_key("lighthouse"));
    }

    #[test]
    fn what_steps_in_for_a_ca_is_one_of_the_settings() {
        let text = "[ca]\ncontact = \"crew@saltmarsh.example\"\n[cas.lighthouse]\nfallback = [\"default\", \"pier\"]\n";
        let error = parse(text, Path::new("/harbor/harbor.toml")).unwrap_err();
        assert!(error.message.starts_with("/harbor/harbor.toml:4: `fallback` names a CA `pier`"), "{}", error.message);
        assert!(parse(&text.replace(", \"pier\"", ""), Path::new("x")).is_ok());
    }

    #[test]
    fn an_address_is_no_domain_and_no_catalog() {
        for text in ["[sites]\nprovider-domains = [\"192.0.2.1\"]\n", "[dns]\ncatalog = \"192.0.2.1\"\n"] {
            let error = parse(text, Path::new("/harbor/harbor.toml")).unwrap_err();
            assert!(error.message.contains("harbor.toml:2: `192.0.2.1` is an address"), "{}", error.message);
        }
        let named = parse("[dns]\ncatalog = \"catalog.example\"\n", Path::new("x")).unwrap();
        assert_eq!(named.dns.catalog.unwrap().as_str(), "catalog.example");
    }
}

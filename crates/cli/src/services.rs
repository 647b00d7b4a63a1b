//! Certificates for other services than the web server: brought to each whenever it has another one than its hostname.

use brightharbor_core::certificate::{covers, read_chain};
use brightharbor_core::harbor::Service;
use brightharbor_io::clock;
use brightharbor_io::harbor::Harbor;
use brightharbor_io::install::{place_for_service, service_has};
use serde::Serialize;
use zeroize::Zeroizing;

use crate::error::Error;

/// What came of bringing a service its certificate.
#[derive(Debug, Clone, Serialize)]
pub struct Brought {
    pub service: String,
    pub hostname: String,
    /// Whether it got another one just now.
    pub new: bool,
    pub problem: Option<String>,
}

/// Looks after the services of the settings; with a name, after that one alone.
pub fn bring(harbor: &Harbor, only: Option<&str>) -> Result<Vec<Brought>, Error> {
    let chosen = harbor.settings.services.iter().filter(|(name, _)| only.is_none_or(|only| only == *name));
    chosen.map(|(name, service)| bring_one(harbor, name, service)).collect()
}

fn bring_one(harbor: &Harbor, name: &str, service: &Service) -> Result<Brought, Error> {
    let mut brought =
        Brought { service: name.to_string(), hostname: service.hostname.to_string(), new: false, problem: None };
    let site = harbor.store.site_of(&service.hostname)?;
    let Some(files) = site.and_then(|site| site.certificate) else {
        brought.problem = Some(format!("{} has no certificate here yet", service.hostname));
        return Ok(brought);
    };
    match newer(service, &files) {
        Ok(None) => {}
        Ok(Some((chain, key))) => match place_for_service(service, &chain, &key, clock::now()) {
            Ok(()) => brought.new = true,
            Err(error) => brought.problem = Some(error.to_string()),
        },
        Err(problem) => brought.problem = Some(problem),
    }
    Ok(brought)
}

/// Chain and key, if the service has others.
fn newer(
    service: &Service,
    files: &brightharbor_core::site::CertificateFiles,
) -> Result<Option<(String, Zeroizing<String>)>, String> {
    let read = |path: std::path::PathBuf| {
        std::fs::read_to_string(&path).map_err(|error| format!("{}: {error}", path.display()))
    };
    let chain = read(files.chain())?;
    if service_has(service, chain.as_bytes()) {
        return Ok(None);
    }
    let facts = read_chain(chain.as_bytes()).map_err(|error| format!("{}: {error}", files.chain().display()))?;
    if !covers(&facts[0].names, &service.hostname) {
        return Err(format!("the certificate of its site does not cover {}", service.hostname));
    }
    Ok(Some((chain, Zeroizing::new(read(files.key())?))))
}

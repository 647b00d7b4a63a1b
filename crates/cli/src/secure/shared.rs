//! A site that takes the certificate of another one, such as one with a wildcard, and follows its renewals.

use brightharbor_core::certificate::{Certificate, CertificateFiles, CertificateSource};
use brightharbor_core::certificate::{read_chain, uncovered};
use brightharbor_core::name::Hostname;
use brightharbor_core::site::Site;
use brightharbor_io::acme::Issued;
use brightharbor_io::harbor::Harbor;
use zeroize::Zeroizing;

use super::Stage;
use super::installing::Arrived;
use crate::error::Error;

/// What is to be done for a site that shares the certificate of another one.
pub fn take(harbor: &Harbor, site: &Site, from: &Hostname) -> Result<Stage, Error> {
    let source = harbor.store.site_of(from)?.and_then(|source| source.certificate);
    let source = source.ok_or_else(|| {
        Error::refused("nothing-to-share", format!("{from} has no certificate that {} could share", site.main()))
            .advice(format!("get one first: brightharbor certificate issue {from}"))
    })?;
    let read = |path: std::path::PathBuf| {
        std::fs::read_to_string(&path)
            .map_err(|error| Error::refused("file", format!("{}: {error}", path.display())).advice("run it as root"))
    };
    let chain_pem = read(source.chain())?;
    let unreadable = |error| Error::refused("file", format!("{}: {error}", source.chain().display()));
    let leaf = read_chain(chain_pem.as_bytes()).map_err(unreadable)?.remove(0);
    if let Some(name) = uncovered(&leaf.names, &site.hostnames).first() {
        let message = format!("the certificate of {from} does not cover {name}");
        return Err(Error::refused("not-covered", message)
            .advice(format!("have it cover all names below: brightharbor certificate issue {from} --wildcard")));
    }
    let present = harbor.store.certificate_of(site.main())?.filter(|present| has(&present.files, &chain_pem));
    if let Some(certificate) = present {
        return Ok(Stage::InPlace { certificate: Box::new(certificate), new: false });
    }
    let issued = Issued { chain_pem, key_pem: Zeroizing::new(read(source.key())?) };
    Ok(Stage::Arrived(Box::new(Arrived { issued, names: site.hostnames.clone(), wildcards: vec![] })))
}

/// Refuses a certificate that does not do for the site, before anything is changed.
pub fn shareable(harbor: &Harbor, site: &Site, from: &Hostname) -> Result<(), Error> {
    take(harbor, site, from).map(|_| ())
}

fn has(files: &CertificateFiles, chain_pem: &str) -> bool {
    std::fs::read(files.chain()).is_ok_and(|present| present == chain_pem.as_bytes())
}

/// The sites whose shared certificate has been renewed at its source; and those whose source is gone, which have to be
/// told of before what they have runs out.
pub fn outdated(harbor: &Harbor, certificates: &[Certificate]) -> Result<Vec<Hostname>, Error> {
    let mut found = Vec::new();
    for certificate in certificates.iter().filter(|one| one.source == CertificateSource::Shared) {
        let from = harbor.store.site_of(&certificate.site)?.and_then(|site| site.rules.certificate.from);
        let source = from.map(|from| harbor.store.site_of(&from)).transpose()?.flatten();
        let chain = source.and_then(|source| std::fs::read_to_string(source.certificate?.chain()).ok());
        if chain.is_none_or(|chain| !has(&certificate.files, &chain)) {
            found.push(certificate.site.clone());
        }
    }
    Ok(found)
}

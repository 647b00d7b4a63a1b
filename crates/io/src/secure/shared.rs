//! Certificates that sites share: what the source of one has, and whose copy is out of date.

use brightharbor_core::certificate::securing::Issued;
use brightharbor_core::certificate::{Certificate, CertificateRefusal, CertificateSource};
use brightharbor_core::name::Host;
use brightharbor_core::site::Site;

use super::WorkError;
use crate::harbor::Harbor;
use crate::load::chain_and_key;
use crate::probe::staple_in_place;

/// What the site has whose certificate this one takes; `None` for one that takes none.
pub(super) async fn issued_of_source(
    harbor: &Harbor,
    site: &Site,
) -> Result<Option<Result<Issued, CertificateRefusal>>, WorkError> {
    let Some(from) = &site.rules.certificate.from else { return Ok(None) };
    let source = harbor.store.site_of(from)?.and_then(|source| source.certificate);
    let Some(files) = source else {
        let (site, from) = (site.main().clone(), from.clone());
        return Ok(Some(Err(CertificateRefusal::NothingToShare { site, from })));
    };
    let (chain_pem, key_pem) = match chain_and_key(&files) {
        Ok(both) => both,
        Err(words) => return Ok(Some(Err(CertificateRefusal::Key(words)))),
    };
    let staple = match staple_in_place(&files, &chain_pem, harbor).await {
        Ok(staple) => staple,
        Err(reason) => return Ok(Some(Err(CertificateRefusal::NoStaple { site: site.main().clone(), reason }))),
    };
    Ok(Some(Ok(Issued { chain_pem, key_pem, staple })))
}

/// The chain of a site's certificate, if it has one that can be read.
pub fn shared_chain(site: &Site) -> Option<String> {
    site.certificate.as_ref().and_then(|files| std::fs::read_to_string(files.chain()).ok())
}

/// The sites whose shared certificate has been renewed at its source; and those whose source is gone, which have to be
/// told of before what they have expires.
pub fn outdated(harbor: &Harbor, certificates: &[Certificate]) -> Result<Vec<Host>, WorkError> {
    let mut found = Vec::new();
    for certificate in certificates.iter().filter(|one| one.source == CertificateSource::Shared) {
        let from = harbor.store.site_of(&certificate.site)?.and_then(|site| site.rules.certificate.from);
        let source = from.map(|from| harbor.store.site_of(&from)).transpose()?.flatten();
        let chain = source.as_ref().and_then(shared_chain);
        let present = std::fs::read_to_string(certificate.files.chain()).ok();
        if chain.is_none() || chain != present {
            found.push(certificate.site.clone());
        }
    }
    Ok(found)
}

//! The certificates in place that demand their CA's statement, and how it stands with what lies beside them.

use brightharbor_core::certificate::{CertificateFiles, Demanding, StapleStanding, read_chain};
use brightharbor_core::name::Host;
use jiff::Timestamp;

use super::{LoadError, installed_chain};
use crate::harbor::Harbor;
use crate::install::read_if_there;
use crate::trust::root_of;

/// A certificate that is shown with a statement of its CA.
pub struct StapleSeen {
    pub site: Host,
    pub files: CertificateFiles,
    /// Whom to ask; or why nobody can be asked, in words.
    pub demanding: Result<Demanding, String>,
    pub in_place: Option<Vec<u8>>,
    pub standing: StapleStanding,
}

/// All of them, where the web server shows what lies there: one that fetches statements itself is left to it. What has
/// expired or cannot be read is told elsewhere.
pub fn staples(harbor: &Harbor, now: Timestamp) -> Result<Vec<StapleSeen>, LoadError> {
    let mut all = Vec::new();
    if harbor.settings.web.server.fetches_staples() {
        return Ok(all);
    }
    let roots = &harbor.settings.internet.trust_roots;
    for certificate in harbor.store.all_certificates()? {
        let files = certificate.files;
        if !files.is_stapled() || certificate.not_after <= now {
            continue;
        }
        let Some(chain) = installed_chain(&files).filter(|chain| read_chain(chain).is_ok()) else { continue };
        let demanding = Demanding::of(&String::from_utf8_lossy(&chain), |leaf| root_of(roots, leaf));
        let demanding = demanding.transpose().unwrap_or_else(|| Err("its certificate demands none".into()));
        let in_place = read_if_there(&files.staple())?;
        let standing = match &demanding {
            Ok(demanding) => demanding.standing(in_place.as_deref(), now),
            Err(_) => StapleStanding::NONE,
        };
        all.push(StapleSeen { site: certificate.site, files, demanding, in_place, standing });
    }
    Ok(all)
}

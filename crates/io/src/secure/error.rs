//! Why work on certificates could not be done.

use brightharbor_core::certificate::CertificateRefusal;
use brightharbor_core::change::Consent;
use brightharbor_core::name::Host;

use crate::acme::ErrandError;
use crate::door::DoorError;
use crate::load::LoadError;
use crate::look::LookError;
use crate::overlay::NotAsked;
use crate::store::StoreError;
use crate::trust::TrustError;

#[derive(Debug, thiserror::Error)]
pub enum WorkError {
    #[error("{0}")]
    Door(Box<DoorError>),
    #[error("{0}")]
    Load(Box<LoadError>),
    #[error(transparent)]
    Look(#[from] LookError),
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error("{0}")]
    Errand(Box<ErrandError>),
    #[error("a certificate change is refused")]
    Refusal(Box<CertificateRefusal>),
    #[error("somebody has to consent first")]
    Consent(Box<Consent>),
    /// No successor of a certificate is served, so that it is not revoked yet.
    #[error("no successor of the certificate of {0} is served")]
    NoSuccessor(Host),
    /// Somebody still has the certificate, so that the CA was not told yet.
    #[error("{0} still has the certificate")]
    StillHas(StillHas),
    #[error("the site was lost on the way")]
    Lost,
}

/// Who has a certificate that is to be revoked.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum StillHas {
    #[error("{0}")]
    Site(Host),
    #[error("the service {0}")]
    Service(String),
}

impl From<CertificateRefusal> for WorkError {
    fn from(refusal: CertificateRefusal) -> Self {
        WorkError::Refusal(Box::new(refusal))
    }
}

impl From<DoorError> for WorkError {
    fn from(error: DoorError) -> Self {
        WorkError::Door(Box::new(error))
    }
}

impl From<LoadError> for WorkError {
    fn from(error: LoadError) -> Self {
        WorkError::Load(Box::new(error))
    }
}

impl From<ErrandError> for WorkError {
    fn from(error: ErrandError) -> Self {
        WorkError::Errand(Box::new(error))
    }
}

impl From<TrustError> for WorkError {
    fn from(error: TrustError) -> Self {
        WorkError::Look(error.into())
    }
}

impl From<NotAsked> for WorkError {
    fn from(error: NotAsked) -> Self {
        LoadError::from(error).into()
    }
}

//! What a plan has to tell beside its changes: typed, a kind for each topic. The words are made where they are shown.

use crate::account::AccountRemark;
use crate::certificate::CertificateRemark;
use crate::nameserver::NameserverRemark;
use crate::redirect::RedirectRemark;
use crate::site::SiteRemark;
use crate::zone::ZoneRemark;

/// One thing worth telling.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Remark {
    /// Everything is as it was asked for already.
    Unchanged,
    /// What an entry of the logbook did is undone; what stays of it all the same.
    TakenBack {
        entry: i64,
        title: String,
        stays: Vec<String>,
    },
    /// What was typed is not exactly what was taken, in words.
    Taken(String),
    Account(AccountRemark),
    Certificate(CertificateRemark),
    Nameserver(NameserverRemark),
    Redirect(RedirectRemark),
    Site(SiteRemark),
    Zone(ZoneRemark),
}

impl Remark {
    /// Whether it tells of something that goes.
    pub(super) fn takes_away(&self) -> bool {
        matches!(
            self,
            Remark::Redirect(RedirectRemark::Removed { .. })
                | Remark::Site(SiteRemark::NamesDetached { .. })
                | Remark::Zone(ZoneRemark::RecordRemoved { .. } | ZoneRemark::AddressesRemoved { .. })
        )
    }
}

impl From<AccountRemark> for Remark {
    fn from(remark: AccountRemark) -> Self {
        Remark::Account(remark)
    }
}

impl From<CertificateRemark> for Remark {
    fn from(remark: CertificateRemark) -> Self {
        Remark::Certificate(remark)
    }
}

impl From<NameserverRemark> for Remark {
    fn from(remark: NameserverRemark) -> Self {
        Remark::Nameserver(remark)
    }
}

impl From<RedirectRemark> for Remark {
    fn from(remark: RedirectRemark) -> Self {
        Remark::Redirect(remark)
    }
}

impl From<SiteRemark> for Remark {
    fn from(remark: SiteRemark) -> Self {
        Remark::Site(remark)
    }
}

impl From<ZoneRemark> for Remark {
    fn from(remark: ZoneRemark) -> Self {
        Remark::Zone(remark)
    }
}

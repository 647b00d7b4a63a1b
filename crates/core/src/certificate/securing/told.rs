//! The facts that move a course: what is wanted, what is in place, what was seen, what was ordered and what arrived. What
//! follows from them is decided in `course` and `standing`.

use std::path::PathBuf;

use jiff::Timestamp;
use zeroize::Zeroizing;

use crate::acme::Identifier;
use crate::certificate::{Certificate, Distrust, Means, NamePause};
use crate::delegation::Cuts;
use crate::name::{Host, Hostname};

/// Whether a certificate that is good already will do.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wanted {
    Enough,
    /// The same when the timer asks: names that a CA has refused lately are left out.
    InTurn,
    New,
    /// The same because the CA calls the present one back (RFC 9773): it may revoke it soon, whatever it covers.
    CalledBack,
    /// With another key too, even where the site keeps its key: this one may be known to somebody else.
    NewKey,
    /// None is ordered: whether a handshake shows by now what was installed.
    Verification,
}

/// A certificate as it came, with its key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Issued {
    pub chain_pem: String,
    pub key_pem: Zeroizing<String>,
    /// The statement of its CA, where it demands to be shown with one.
    pub staple: Option<Vec<u8>>,
}

/// A certificate that is to be installed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Arrived {
    pub issued: Issued,
    pub names: Vec<Host>,
    pub wildcards: Vec<Hostname>,
    /// The CA that it came from, by its name in the settings; that of `[ca]` when not named.
    pub ca: Option<String>,
    /// The kind that was ordered, by the CA's own name for it.
    pub profile: Option<String>,
    /// Whether one was ordered that demands its CA's statement in each handshake.
    pub stapled: bool,
}

/// The certificate of a site, with the kind of its key, as far as it can be read.
#[derive(Debug, Clone)]
pub struct Present {
    pub certificate: Certificate,
    pub key: Option<String>,
    pub chain_pem: Option<String>,
    /// Whether visitors trust it now, as the roots of the settings tell.
    pub trusted: bool,
}

/// What was seen of where the names of a site lead.
#[derive(Debug, Clone, Default)]
pub struct Looked {
    pub leading: Vec<Host>,
    /// Those that resolve to this host where nobody takes connections for http, with the reason.
    pub without_http: Vec<(Host, String)>,
    pub left_out: Vec<(Host, String)>,
    /// Those that a CA has refused lately, with the reason.
    pub paused: Vec<NamePause>,
    /// What control can be proven by beside http; asked only where it matters.
    pub means: Means,
    pub zones: Cuts,
    /// Until when resolvers may still give old answers.
    pub stale_until: Option<Timestamp>,
}

/// What came of an order.
#[derive(Debug, Clone)]
pub struct Ordered {
    /// `None` where the certificate in place covers what the CA has not refused.
    pub issued: Option<Issued>,
    pub names: Vec<Host>,
    pub wildcards: Vec<Hostname>,
    /// The CA that was asked in the end, and for what kind.
    pub ca: Option<String>,
    pub profile: Option<String>,
    pub stapled: bool,
    /// What the CA could not validate, or what we saw that it could not.
    pub refused: Vec<(Identifier, String)>,
    /// That it was laid aside, and why.
    pub aside: Option<Aside>,
}

/// A certificate that visitors would trust less than the one in place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Aside {
    pub distrust: Distrust,
    /// Where it is kept.
    pub folder: PathBuf,
}

impl Aside {
    pub(super) fn reason(&self) -> String {
        format!(
            "visitors trust the certificate in place, and would not trust the one that the CA has issued ({}); it is kept in {}",
            self.distrust.words(),
            self.folder.display()
        )
    }
}

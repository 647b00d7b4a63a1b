//! The options that say how a certificate is obtained: kept with the site, so that renewals do the same.

use brightharbor_core::certificate::{KeyKind, ProofWish, WishChange};
use brightharbor_core::name::Host;
use clap::{Args, ValueEnum};

#[derive(Debug, Clone, Args)]
pub struct WishOptions {
    /// The CA, by its name under [cas] in harbor.toml; `default` for that of [ca].
    #[arg(long, value_name = "NAME")]
    ca: Option<String>,
    /// The kind of key.
    #[arg(long, value_enum)]
    key: Option<KeyArgument>,
    /// Reuse the private key when renewing, for those who pin it; `--keep-key=no` for a new one each time.
    #[arg(long, value_enum, value_name = "YES|NO", num_args = 0..=1, require_equals = true, default_missing_value = "yes")]
    keep_key: Option<YesNo>,
    /// The challenge: fitting (http-01; dns-01 for wildcards; another one where http is closed), only http-01, dns-01 for
    /// all names, or tls-alpn-01.
    #[arg(long, value_enum)]
    proof: Option<ProofArgument>,
    /// Cover all names one label below HOSTNAME as well; `--wildcard=no` to stop that.
    #[arg(long, value_enum, value_name = "YES|NO", num_args = 0..=1, require_equals = true, default_missing_value = "yes")]
    wildcard: Option<YesNo>,
    /// The kind of certificate, by the CA's name for it (see `ca list`), such as one that lives for days; `none` leaves the
    /// kind to the CA.
    #[arg(long, value_name = "NAME")]
    profile: Option<String>,
    /// Ask for one that browsers take only together with a fresh statement of the CA that it is not revoked (RFC 7633); the
    /// web server is made to show it. `--stapled=no` to stop that.
    #[arg(long, value_enum, value_name = "YES|NO", num_args = 0..=1, require_equals = true, default_missing_value = "yes")]
    stapled: Option<YesNo>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum YesNo {
    Yes,
    No,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum ProofArgument {
    Fitting,
    #[value(name = "http-01")]
    Http01,
    #[value(name = "dns-01")]
    Dns01,
    #[value(name = "tls-alpn-01")]
    TlsAlpn01,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum KeyArgument {
    P256,
    P384,
    Rsa2048,
    Rsa3072,
    Rsa4096,
}

impl From<KeyArgument> for KeyKind {
    fn from(typed: KeyArgument) -> KeyKind {
        match typed {
            KeyArgument::P256 => KeyKind::P256,
            KeyArgument::P384 => KeyKind::P384,
            KeyArgument::Rsa2048 => KeyKind::Rsa2048,
            KeyArgument::Rsa3072 => KeyKind::Rsa3072,
            KeyArgument::Rsa4096 => KeyKind::Rsa4096,
        }
    }
}

impl WishOptions {
    /// What was typed, for a site asked for by `name`.
    pub fn change(&self, name: &Host) -> WishChange {
        let yes = |typed: YesNo| typed == YesNo::Yes;
        WishChange {
            name: name.clone(),
            ca: self.ca.clone(),
            key: self.key.map(KeyKind::from),
            keep_key: self.keep_key.map(yes),
            proof: self.proof.map(ProofWish::from),
            wildcard: self.wildcard.map(yes),
            profile: self.profile.clone(),
            stapled: self.stapled.map(yes),
        }
    }
}

impl From<ProofArgument> for ProofWish {
    fn from(typed: ProofArgument) -> Self {
        match typed {
            ProofArgument::Fitting => ProofWish::Fitting,
            ProofArgument::Http01 => ProofWish::Http01,
            ProofArgument::Dns01 => ProofWish::Dns01,
            ProofArgument::TlsAlpn01 => ProofWish::TlsAlpn01,
        }
    }
}

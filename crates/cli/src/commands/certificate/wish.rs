//! The options that say how a certificate is to be got: kept with the site, so that renewals do the same.

use brightharbor_core::certificate::{CertificateWish, KeyKind, ProofWish};
use brightharbor_core::change::{ChangeSet, InventoryChange};
use brightharbor_core::name::Hostname;
use brightharbor_core::site::Site;
use brightharbor_io::harbor::Harbor;
use clap::{Args, ValueEnum};

use crate::error::Error;
use crate::options::ChangeOptions;
use crate::run::{Context, Decision, change};

#[derive(Debug, Clone, Args)]
pub struct WishOptions {
    /// The CA, by its name under [cas] in harbor.toml; `default` for that of [ca].
    #[arg(long, value_name = "NAME")]
    ca: Option<String>,
    /// The kind of key.
    #[arg(long, value_enum)]
    key: Option<KeyArgument>,
    /// Take the key that is there at each renewal, for those who pin it; `--keep-key=no` for a new one each time.
    #[arg(long, value_enum, value_name = "YES|NO", num_args = 0..=1, require_equals = true, default_missing_value = "yes")]
    keep_key: Option<YesNo>,
    /// How control of the names is proven: what fits (over http; by DNS for wildcards; by what else there is where nothing
    /// takes http), over http alone, by DNS for all of them, or in a TLS handshake.
    #[arg(long, value_enum)]
    proof: Option<ProofArgument>,
    /// Cover all names one label below HOSTNAME as well; `--wildcard=no` to leave that.
    #[arg(long, value_enum, value_name = "YES|NO", num_args = 0..=1, require_equals = true, default_missing_value = "yes")]
    wildcard: Option<YesNo>,
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

/// The name below which a wildcard for this one stands: `www` is one of the names that it covers.
pub fn wildcard_parent(name: &Hostname) -> Result<Hostname, Error> {
    match name.address() {
        Some(_) => Err(Error::wrong_use("an address has no names below it")),
        None => Ok(name.without_www().unwrap_or_else(|| name.clone())),
    }
}

impl WishOptions {
    /// The wish of the site with what was typed.
    fn over(&self, before: &CertificateWish, name: &Hostname, harbor: &Harbor) -> Result<CertificateWish, Error> {
        // Whoever orders one wants no share of another.
        let mut wish = CertificateWish { from: None, ..before.clone() };
        match self.ca.as_deref() {
            None => {}
            Some("default") => wish.ca = None,
            Some(typed) if harbor.settings.cas.contains_key(typed) => wish.ca = Some(typed.to_string()),
            Some(typed) => {
                let message = format!("harbor.toml has no CA `{}`", typed.escape_debug());
                let known: Vec<&str> = harbor.settings.cas.keys().map(String::as_str).collect();
                let advice = match known.is_empty() {
                    true => format!("add it there: [cas.{typed}] with directory = \"...\""),
                    false => format!("it has `default`, {}", known.join(", ")),
                };
                return Err(Error::refused("unknown-ca", message).advice(advice));
            }
        }
        if let Some(key) = self.key {
            wish.key = key.into();
        }
        if let Some(keep) = self.keep_key {
            wish.keep_key = keep == YesNo::Yes;
        }
        if let Some(proof) = self.proof {
            wish.proof = match proof {
                ProofArgument::Fitting => ProofWish::Fitting,
                ProofArgument::Http01 => ProofWish::Http01,
                ProofArgument::Dns01 => ProofWish::Dns01,
                ProofArgument::TlsAlpn01 => ProofWish::TlsAlpn01,
            };
            if wish.proof == ProofWish::TlsAlpn01 && harbor.settings.web.tls_alpn_listen.is_none() {
                let message = "harbor.toml names no address for proofs over TLS";
                return Err(Error::refused("no-responder", message).advice(
                    "name one under [web], as in tls-alpn-listen = \"127.0.0.1:10443\", and have connections for \
                     acme-tls/1 passed there: see docs/settings.md",
                ));
            }
        }
        match self.wildcard {
            Some(YesNo::Yes) => {
                let parent = wildcard_parent(name)?;
                if !wish.wildcards.contains(&parent) {
                    wish.wildcards.push(parent);
                }
            }
            Some(YesNo::No) => wish.wildcards.retain(|one| !wildcard_parent(name).is_ok_and(|parent| parent == *one)),
            None => {}
        }
        if wish.proof == ProofWish::Http01
            && let Some(parent) = wish.wildcards.first()
        {
            let message = format!("http-01 does not prove *.{parent}: only a DNS record does (RFC 8555 section 7.1.3)");
            return Err(Error::refused("wildcard-proof", message)
                .advice("add `--proof fitting`, so that each name gets what fits; or `--wildcard=no`"));
        }
        Ok(wish)
    }

    /// Keeps what was typed with the site. Gives the site as it is now.
    pub fn keep(&self, context: &Context, site: &Site, name: &Hostname) -> Result<Site, Error> {
        let title = format!("how the certificate of {} is got", site.main());
        let yes = ChangeOptions { dry_run: false, yes: true };
        let main = site.main().clone();
        let mut kept = site.clone();
        context.block_on(change(context, &title, &yes, async |harbor, _| {
            let lost = || Error::refused("detached", format!("{main} is not attached any more"));
            let before = harbor.store.site_of(&main)?.ok_or_else(lost)?;
            let mut after = before.clone();
            *after.rules.certificate = self.over(&before.rules.certificate, name, harbor)?;
            let mut set = ChangeSet::new(&title);
            kept = after.clone();
            if after != before {
                set.inventory(InventoryChange::ReplaceSite { before, after });
            }
            Ok(Decision { set, said: vec![] })
        }))??;
        Ok(kept)
    }

    /// The site as it would be.
    pub fn foresee(&self, harbor: &Harbor, site: &Site, name: &Hostname) -> Result<Site, Error> {
        let mut after = site.clone();
        *after.rules.certificate = self.over(&site.rules.certificate, name, harbor)?;
        Ok(after)
    }
}

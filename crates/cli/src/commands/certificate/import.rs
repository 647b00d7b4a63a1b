//! `certificate import`: what a seller has sent, recognised, matched with its key, put in order, installed and proven.

use std::path::PathBuf;
use std::time::Duration;

use brightharbor_core::certificate::securing::Secured;
use brightharbor_core::certificate::{
    Assembled, Bought, CertificateFacts, CertificateRefusal, CertificateSource, Piece, assemble, best_for,
    import_certificate, only_site, pieces,
};
use brightharbor_core::name::Host;
use brightharbor_core::site::Site;
use brightharbor_io::harbor::Harbor;
use brightharbor_io::keys::public_half;
use brightharbor_io::probe::{fetch_issuer, staple_of_new};
use brightharbor_io::secure::verify_installed;
use brightharbor_io::server::await_fingerprint;
use brightharbor_io::{load, trust};
use clap::Args;
use jiff::Timestamp;
use serde_json::{Value, json};
use zeroize::Zeroizing;

use super::unlock::{UnlockOptions, read_pieces};
use crate::commands::{Report, find_site, host};
use crate::demanding::take_all_away;
use crate::error::{Error, Exit};
use crate::options::ChangeOptions;
use crate::run::{Carried, Context, change};
use crate::show::human::{self, Page};
use crate::show::{Shown, json};

/// Import a certificate that was bought: any mixture of PEM, DER, PKCS#7, PKCS#12 and zip files, with or
/// without its key.
#[derive(Debug, Args)]
pub struct Import {
    /// The files, in any order.
    #[arg(required = true)]
    files: Vec<PathBuf>,
    /// A hostname of the site; by default found by the names in the certificate.
    #[arg(long, value_name = "HOSTNAME")]
    site: Option<String>,
    /// Fetch issuers that are missing from where the certificates say.
    #[arg(long)]
    fetch: bool,
    /// Install it even if no trusted root vouches for it, replacing one that visitors trust.
    #[arg(long)]
    untrusted: bool,
    #[command(flatten)]
    unlock: UnlockOptions,
    #[command(flatten)]
    options: ChangeOptions,
}

pub fn run(args: &Import, context: &Context) -> Report {
    let password = args.unlock.password()?;
    let (mut given, mut keys, mut found) = (Vec::new(), Vec::new(), Vec::new());
    for path in &args.files {
        for piece in read_pieces(path, password.as_ref().map(|text| text.as_str()))? {
            match piece {
                Piece::Remark(remark) => found.push(remark),
                Piece::Certificate(facts) => given.push(*facts),
                Piece::Key(pem) => keys.push(pem),
                Piece::Request(_) => {}
            }
        }
    }
    if args.fetch {
        context.block_on(fetch_missing(&mut given, &mut found, context))?;
    }
    let named = args.site.as_deref().map(host).transpose()?;
    let (mut carried, (site, made)) =
        context.block_on(change(context, "certificate import", &args.options, async |overlay, now| {
            let site = match &named {
                Some(name) => find_site(overlay, name)?,
                None => only_site(named_sites(overlay, &given)?)?,
            };
            let waiting = load::waiting_keys(overlay, &site);
            let (key, made) = with_its_key(&given, keys.iter().chain(&waiting), &site, now)?;
            let roots = trust::roots(&overlay.settings.internet.trust_roots)?;
            let chain: Vec<&[u8]> = made.chain.iter().map(|facts| &facts.der[..]).collect();
            let judged = trust::judge(&chain, site.main(), &roots, now);
            let bought = Bought {
                made: made.clone(),
                key_pem: &key,
                judged,
                untrusted: args.untrusted,
                found: &found,
                source: CertificateSource::Imported,
                revoked: false,
                staple: staple_of_new(&made.chain_pem(), overlay).await,
            };
            let receiving = load::receiving(overlay, site.clone())?;
            let plan = import_certificate(&bought, &receiving, &overlay.settings, &overlay.layout, now)?;
            Ok((plan, (site, made)))
        }))??;
    let mut secured = None;
    if carried.entry.is_some() {
        secured = Some(context.block_on(verify(context, &site, carried.took))??);
        if !site.rules.demands.is_empty() {
            // The certificate is in place, whatever becomes of this.
            carried.plan.remarks.extend(context.block_on(take_all_away(context, site.main()))??);
        }
    }
    Ok(Box::new(Imported { carried, site: site.main().clone(), made, secured }))
}

/// Adds the issuers that nobody gave. Whether one has really signed is seen when the chain is put together.
async fn fetch_missing(given: &mut Vec<CertificateFacts>, found: &mut Vec<String>, context: &Context) {
    /// No chain is longer.
    const MOST_FETCHED: usize = 6;
    let mut tried: Vec<String> = Vec::new();
    for _ in 0..MOST_FETCHED {
        let has_issuer = |facts: &CertificateFacts| given.iter().any(|other| other.subject == facts.issuer);
        let lonely = given.iter().filter(|facts| !has_issuer(facts)).flat_map(|facts| &facts.issuer_at);
        let mut new = lonely.filter(|address| !tried.contains(address));
        let Some(address) = new.next().cloned() else { return };
        context.progress.doing(&format!("fetching {address}"));
        let fetched = fetch_issuer(&address).await;
        let fetched = fetched.and_then(|bytes| pieces(&bytes, None).map_err(|error| error.to_string()));
        match fetched {
            Ok(pieces) => {
                for piece in pieces {
                    if let Piece::Certificate(facts) = piece {
                        found.push(format!("fetched: {} from {address}", facts.subject));
                        given.push(*facts);
                    }
                }
            }
            Err(error) => found.push(format!("nothing could be fetched from {address}: {error}")),
        }
        tried.push(address);
    }
}

/// The sites that the certificates name a hostname of: of each the first one.
fn named_sites(harbor: &Harbor, given: &[CertificateFacts]) -> Result<Vec<Site>, Error> {
    let mut sites = Vec::new();
    for leaf in given.iter().filter(|facts| !facts.is_ca) {
        let named = leaf.names.iter().filter_map(|name| Host::parse(name.trim_start_matches("*.")).ok());
        for name in named {
            if let Some(site) = harbor.store.site_of(&name)? {
                sites.push(site);
                break;
            }
        }
    }
    Ok(sites)
}

/// The key that one of the certificates is for; of several, the one whose certificate suits the site.
fn with_its_key<'k>(
    given: &[CertificateFacts],
    keys: impl Iterator<Item = &'k Zeroizing<String>>,
    site: &Site,
    now: Timestamp,
) -> Result<(Zeroizing<String>, Assembled), Error> {
    let mut last = CertificateRefusal::NoKey;
    let (mut fitting, mut chains) = (Vec::new(), Vec::new());
    for key in keys {
        let public = public_half(key).map_err(|error| CertificateRefusal::Key(error.to_string()))?;
        match assemble(given.to_vec(), &public) {
            Ok(made) => {
                fitting.push(key);
                chains.push(made);
            }
            Err(error) => last = CertificateRefusal::Unfit { site: site.main().clone(), error },
        }
    }
    match best_for(&chains, &site.hostnames, now) {
        Some(at) => Ok((fitting[at].clone(), chains.swap_remove(at))),
        None => Err(last.into()),
    }
}

/// A handshake shows whether it is served, and whether visitors would trust it.
async fn verify(context: &Context, site: &Site, took: Duration) -> Result<Secured, Error> {
    let harbor = context.open()?;
    let site = harbor.store.site_of(site.main())?.unwrap_or_else(|| site.clone());
    await_fingerprint(&harbor.settings, &site, took).await;
    drop(harbor);
    context.work(async |door| verify_installed(door, site.main()).await).await
}

struct Imported {
    carried: Carried,
    site: Host,
    made: Assembled,
    secured: Option<Secured>,
}

impl Shown for Imported {
    fn human(&self, page: &mut Page) {
        human::change_report(page, &self.carried);
        self.secured.iter().for_each(|secured| human::secured(page, secured));
    }

    fn json(&self) -> Value {
        json!({
            "command": "certificate import",
            "change": json::ChangeDocument::from(&self.carried),
            "site": self.site,
            "chain": self.made.chain.iter().map(|facts| &facts.subject).collect::<Vec<_>>(),
            "missing_issuer": self.made.missing,
            "certificate": self.secured.as_ref().map(json::SecuredDocument::from),
        })
    }

    fn exit(&self) -> Exit {
        self.carried.exit(if self.secured.iter().all(Secured::is_shown) { Exit::Done } else { Exit::Fault })
    }
}

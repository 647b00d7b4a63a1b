//! `certificate import`: what a seller has sent, recognised, matched with its key, put in order, installed and proven.

use std::path::PathBuf;
use std::time::Duration;

use brightharbor_core::certificate::{
    Assembled, CertificateFacts, Install, Piece, assemble, certificate_pem, check_leaf, install, pieces,
};
use brightharbor_core::certificate::{CertificateDetails, CertificateSource};
use brightharbor_core::change::InventoryChange;
use brightharbor_core::name::Hostname;
use brightharbor_core::site::Site;
use brightharbor_io::harbor::Harbor;
use brightharbor_io::keys::public_half;
use brightharbor_io::probe::fetch_issuer;
use brightharbor_io::server::await_fingerprint;
use clap::Args;
use jiff::Timestamp;
use serde_json::{Value, json};
use zeroize::Zeroizing;

use super::fitness::{judged, spare_a_good_one, unfit};
use super::list::site_of;
use super::unlock::{UnlockOptions, read_pieces};
use crate::commands::{Report, host};
use crate::demands::take_all_away;
use crate::error::{Error, Exit};
use crate::options::ChangeOptions;
use crate::run::{Changed, Context, Decision, change};
use crate::secure::{Secured, prove_installed};
use crate::show::human::{self, Page};
use crate::show::{Shown, counted, json};
use crate::site_change::own_file;

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
    /// Install it although no root that is trusted here vouches for it, in place of one that visitors trust.
    #[arg(long)]
    untrusted: bool,
    #[command(flatten)]
    unlock: UnlockOptions,
    #[command(flatten)]
    options: ChangeOptions,
}

pub fn run(args: &Import, context: &Context) -> Report {
    let password = args.unlock.password()?;
    let (mut given, mut keys, mut remarks) = (Vec::new(), Vec::new(), Vec::new());
    for path in &args.files {
        for piece in read_pieces(path, password.as_ref().map(|text| text.as_str()))? {
            match piece {
                Piece::Remark(remark) => remarks.push(remark),
                Piece::Certificate(facts) => given.push(*facts),
                Piece::Key(pem) => keys.push(pem),
                Piece::Request(_) => {}
            }
        }
    }
    if args.fetch {
        context.block_on(fetch_missing(&mut given, &mut remarks, context))?;
    }
    let named = args.site.as_deref().map(host).transpose()?;
    let mut fits: Option<(Site, Assembled)> = None;
    let title = "certificate import".to_string();
    let changed = context.block_on(change(context, &title, &args.options, async |harbor, now| {
        let site = match &named {
            Some(name) => site_of(harbor, name)?,
            None => site_by_names(harbor, &given)?,
        };
        keys.extend(waiting_keys(harbor, &site)?);
        let (key, mut made) = with_its_key(&given, &keys, &site)?;
        check_leaf(&made.chain[0], &site.hostnames, now).map_err(|error| unfit(&error, &site))?;
        match judged(harbor, &site, &made, now)? {
            // What issues the last one is a root that programs bring along.
            Ok(()) => made.missing = None,
            Err(distrust) if args.untrusted => {
                remarks.push(format!("visitors are warned of it: {}", distrust.words()));
            }
            Err(distrust) => spare_a_good_one(harbor, &site, &made, &distrust, now)?,
        }
        let mut decided = decide(harbor, &site, &made, &key, now, args.options.yes || args.options.dry_run)?;
        decided.said.append(&mut remarks);
        fits = Some((site, made));
        Ok(decided)
    }))??;
    let mut imported = Imported { changed, made: None, secured: None };
    if let Some((site, made)) = fits {
        if imported.changed.entry.is_some() {
            imported.secured = Some(context.block_on(prove(context, &site, imported.changed.took))??);
            if !site.rules.demands.is_empty() {
                // The certificate is in place, whatever becomes of this.
                let taken = context.block_on(take_all_away(context, site.main()))?;
                imported.changed.said.extend(taken.unwrap_or_else(|error| {
                    vec![format!(
                        "what the seller demanded is still there: {}; take it away with brightharbor certificate prove \
                         {} --remove",
                        error.message,
                        site.main()
                    )]
                }));
            }
        }
        imported.made = Some((site.main().clone(), made));
    }
    Ok(Box::new(imported))
}

/// Adds the issuers that nobody gave. Whether one has really signed is seen when the chain is put together.
async fn fetch_missing(given: &mut Vec<CertificateFacts>, remarks: &mut Vec<String>, context: &Context) {
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
        let found = fetched.and_then(|bytes| pieces(&bytes, None).map_err(|error| error.to_string()));
        match found {
            Ok(found) => {
                for piece in found {
                    if let Piece::Certificate(facts) = piece {
                        remarks.push(format!("fetched: {} from {address}", facts.subject));
                        given.push(*facts);
                    }
                }
            }
            Err(error) => remarks.push(format!("nothing could be fetched from {address}: {error}")),
        }
        tried.push(address);
    }
}

/// The site that the certificate names a hostname of.
fn site_by_names(harbor: &Harbor, given: &[CertificateFacts]) -> Result<Site, Error> {
    let leaves = given.iter().filter(|facts| !facts.is_ca);
    for name in leaves.flat_map(|facts| &facts.names) {
        let Ok(name) = Hostname::parse(name.trim_start_matches("*.")) else { continue };
        if let Some(site) = harbor.store.site_of(&name)? {
            return Ok(site);
        }
    }
    Err(Error::refused("no-site", "none of the names in the certificate is attached here")
        .advice("attach the hostname first, or name the site with --site HOSTNAME"))
}

/// The keys that wait for their certificate, the newest first, and the one that is installed.
fn waiting_keys(harbor: &Harbor, site: &Site) -> Result<Vec<Zeroizing<String>>, Error> {
    let folder = harbor.layout.requests().join(site.main().as_str());
    let mut folders: Vec<PathBuf> =
        std::fs::read_dir(&folder).into_iter().flatten().flatten().map(|entry| entry.path()).collect();
    folders.sort();
    folders.reverse();
    folders.extend(site.certificate.as_ref().map(|files| files.folder().to_path_buf()));
    let read = |folder: &PathBuf| std::fs::read_to_string(folder.join("key.pem")).ok().map(Zeroizing::new);
    Ok(folders.iter().filter_map(read).collect())
}

/// The first key that one of the certificates is for.
fn with_its_key(
    given: &[CertificateFacts],
    keys: &[Zeroizing<String>],
    site: &Site,
) -> Result<(Zeroizing<String>, Assembled), Error> {
    let mut last = None;
    for key in keys {
        let public = public_half(key)
            .map_err(|error| Error::refused("key", error).advice("give the key as PEM, without a password"))?;
        match assemble(given.to_vec(), &public) {
            Ok(made) => return Ok((key.clone(), made)),
            Err(error) => last = Some(error),
        }
    }
    match last {
        Some(error) => Err(unfit(&error, site)),
        None => {
            Err(Error::refused("no-key", "there is no key for the certificate, neither in the files nor in the harbor")
                .advice("give the key's file too; one made elsewhere is as good"))
        }
    }
}

fn decide(
    harbor: &Harbor,
    site: &Site,
    made: &Assembled,
    key: &str,
    now: Timestamp,
    anyway: bool,
) -> Result<Decision, Error> {
    let leaf = &made.chain[0];
    let chain_pem: String = made.chain.iter().map(certificate_pem).collect();
    let wildcards = leaf.names.iter().filter_map(|name| name.strip_prefix("*."));
    let wanted = Install {
        details: CertificateDetails {
            ca: None,
            wildcards: wildcards.filter_map(|name| Hostname::parse(name).ok()).collect(),
        },
        chain_pem: &chain_pem,
        key_pem: key,
        names: site.hostnames.clone(),
        not_before: leaf.not_before,
        not_after: leaf.not_after,
        now,
        source: CertificateSource::Imported,
    };
    let file = own_file(harbor, site, anyway)?;
    let (mut set, _) = install(site, &wanted, file, &harbor.settings, &harbor.layout);
    set.title = format!("certificate import {}", site.main());
    if harbor.store.waiting_of(site.main())?.is_some() {
        set.inventory(InventoryChange::EndWait { site: site.main().clone() });
    }
    let until = leaf.not_after.strftime("%Y-%m-%d");
    let mut said = vec![format!("the certificate of {} covers all its names, until {until}", site.main())];
    said.push(format!("its chain has {}, in order", counted(made.chain.len(), "certificate")));
    if let Some(missing) = &made.missing {
        said.push(format!(
            "the chain ends before `{missing}`: if that is no root that visitors' programs know, ask the seller for it"
        ));
    }
    said.extend(made.said.clone());
    Ok(Decision { set, said })
}

/// A handshake shows whether it is served, and whether visitors would trust it.
async fn prove(context: &Context, site: &Site, took: Duration) -> Result<Secured, Error> {
    let harbor = context.open()?;
    let site = harbor.store.site_of(site.main())?.unwrap_or_else(|| site.clone());
    await_fingerprint(&harbor.settings, &site, took).await;
    drop(harbor);
    prove_installed(context, site.main()).await
}

struct Imported {
    changed: Changed,
    made: Option<(Hostname, Assembled)>,
    secured: Option<Secured>,
}

impl Shown for Imported {
    fn human(&self, page: &mut Page) {
        human::change_report(page, &self.changed);
        self.secured.iter().for_each(|secured| human::secured(page, secured));
    }

    fn json(&self) -> Value {
        json!({
            "command": "certificate import",
            "change": json::ChangeDocument::from(&self.changed),
            "site": self.made.as_ref().map(|(site, _)| site),
            "chain": self.made.as_ref().map(|(_, made)| made.chain.iter().map(|facts| &facts.subject).collect::<Vec<_>>()),
            "missing_issuer": self.made.as_ref().and_then(|(_, made)| made.missing.clone()),
            "certificate": self.secured.as_ref().map(json::SecuredDocument::from),
        })
    }

    fn exit(&self) -> Exit {
        if self.secured.iter().all(Secured::is_shown) { Exit::Done } else { Exit::Fault }
    }
}

//! Whether what a seller has sent fits the site: names, dates, keys; and whether visitors would trust it.

use brightharbor_core::certificate::{Assembled, Distrust, Unfit};
use brightharbor_core::site::Site;
use brightharbor_io::harbor::Harbor;
use brightharbor_io::trust;
use jiff::Timestamp;

use crate::error::Error;

/// Whether visitors would trust it.
pub(super) fn judged(
    harbor: &Harbor,
    site: &Site,
    made: &Assembled,
    now: Timestamp,
) -> Result<Result<(), Distrust>, Error> {
    let roots = trust::roots(&harbor.settings.internet.trust_roots)?;
    let chain: Vec<&[u8]> = made.chain.iter().map(|facts| &facts.der[..]).collect();
    Ok(trust::judge(&chain, site.main(), &roots, now))
}

/// Refuses to put one that nobody trusts in the place of one that is served and trusted.
pub(super) fn spare_a_good_one(
    harbor: &Harbor,
    site: &Site,
    made: &Assembled,
    distrust: &Distrust,
    now: Timestamp,
) -> Result<(), Error> {
    let present = harbor.store.certificate_of(site.main())?;
    if !present.is_some_and(|present| present.is_good(now)) {
        return Ok(());
    }
    let message = format!(
        "visitors of {} would be warned of it, and they trust the present one: {}",
        site.main(),
        distrust.words()
    );
    let advice = match &made.missing {
        Some(missing) => format!(
            "give the certificate of its issuer `{missing}` too, or let --fetch look for it; or install it all the \
             same with --untrusted"
        ),
        None => {
            "name its root under `trust-roots` in harbor.toml if your visitors know it; or install it all the same \
                 with --untrusted"
                .into()
        }
    };
    Err(Error::refused("untrusted", message).advice(advice))
}

/// With what to do about it.
pub(super) fn unfit(error: &Unfit, site: &Site) -> Error {
    let advice = match error {
        Unfit::NoCertificate => "give the certificate's file too".to_string(),
        Unfit::OtherKey(_) => format!(
            "give the key that the request was made with; or have it issued anew for a new one: brightharbor \
             certificate request {}",
            site.main()
        ),
        Unfit::Uncovered(_) => "have it issued for all names of the site, or detach those names".into(),
        Unfit::Expired(_) => "get a new one from the seller".into(),
        Unfit::NotYet(_) => "wait until then, or see that this machine's clock is right".into(),
        Unfit::Weak(_) => "have it issued anew, for a P-256 key or RSA 2048".into(),
    };
    Error::refused("unfit", error).advice(advice)
}

//! Refusals about certificates.

use brightharbor_core::acme::Refusal;
use brightharbor_core::certificate::{CertificateRefusal, DemandError, Unfit};
use brightharbor_core::name::Host;

use super::Error;

impl From<CertificateRefusal> for Error {
    fn from(refusal: CertificateRefusal) -> Self {
        use CertificateRefusal as Why;
        match refusal {
            Why::NotAttached(name) => super::site::not_attached(&name),
            Why::Detached(name) => Self::refused("detached", format!("{name} was detached meanwhile"))
                .advice("attach it again, then issue the certificate")
                .with("hostname", name.as_str()),
            Why::WhichSite { sites } => {
                let names: Vec<&str> = sites.iter().map(Host::as_str).collect();
                Self::refused("which-site", format!("there are certificates for several sites: {}", names.join(", ")))
                    .advice("import them one at a time, and say with --site which")
                    .with("sites", names)
            }
            Why::NoSite => Self::refused("no-site", "none of the names in the certificate is attached here")
                .advice("attach the hostname first, or name the site with --site HOSTNAME"),
            Why::NoKey => Self::refused("no-key", "no key for the certificate, neither in the files nor in the harbor")
                .advice("give the key's file too; one made elsewhere is as good"),
            Why::Key(reason) => Self::refused("key", reason)
                .advice("give the key as PEM, without a password: P-256, or RSA with 2048 bits or more"),
            Why::Unfit { site, error } => unfit(&error, &site),
            Why::CannotStaple { reason } => Error::refused("cannot-staple", reason).advice(
                "put `SSLStaplingCache shmcb:staples(1048576)` into it, outside of virtual hosts (Debian has it as a comment in \
                 mods-available/ssl.conf), and reload it",
            ),
            Why::NoStaple { site, reason } => {
                let message = format!(
                    "the certificate for {site} demands a statement of its CA in each handshake (RFC 7633), and there is \
                     none: {reason}"
                );
                Error::refused("no-staple", message)
                    .advice("see that this machine reaches the CA's OCSP responder, or get one without that demand")
                    .with("site", site.as_str())
            }
            Why::Revoked { site } => {
                Error::refused("revoked-certificate", format!("the certificate for {site} is revoked"))
                    .advice(format!("get another one: brightharbor certificate renew {site}"))
            }
            Why::Untrusted { site, distrust, missing_issuer } => {
                let message = format!(
                    "{site}: visitors would be warned of this certificate and trust the present one: {}",
                    distrust.words()
                );
                let advice = match &missing_issuer {
                    Some(missing) => format!(
                        "give the certificate of its issuer `{missing}` too, or let --fetch look for it; or install it \
                         all the same with --untrusted"
                    ),
                    None => "add its root to `trust-roots` in harbor.toml if your visitors know it; or install it all \
                             the same with --untrusted"
                        .into(),
                };
                Self::refused("untrusted", message)
                    .advice(advice)
                    .with("site", site.as_str())
                    .with("missing_issuer", missing_issuer)
            }
            Why::HasBetter { site, until } => {
                let day = until.strftime("%Y-%m-%d");
                Self::refused("has-better", format!("{site} has a better certificate, until {day}"))
                    .advice("keep it: a stop-gap would replace it")
                    .with("site", site.as_str())
                    .with("until", until.to_string())
            }
            Why::UnknownCa { ca, known } => {
                let advice = match known.is_empty() {
                    true => format!("add it there: [cas.{ca}] with directory = \"...\""),
                    false => format!("it has `default`, {}", known.join(", ")),
                };
                Self::refused("unknown-ca", format!("harbor.toml has no CA `{}`", ca.escape_debug()))
                    .advice(advice)
                    .with("ca", ca)
                    .with("known", known)
            }
            Why::Profile { profile, offered } => {
                let message = Refusal::Profile { profile: profile.clone(), offered: offered.clone() };
                Self::refused("profile-not-offered", message)
                    .advice(super::advice_for_ca("profile-not-offered"))
                    .with("profile", profile)
                    .with("offered", offered)
            }
            Why::NoResponder => {
                Self::refused("no-responder", "harbor.toml names no address for tls-alpn-01 challenges").advice(
                    "set one under [web], such as tls-alpn-listen = \"127.0.0.1:10443\", and pass connections for \
                     acme-tls/1 on to it: see docs/settings.md",
                )
            }
            Why::WildcardProof { parent } => {
                let message =
                    format!("*.{parent} cannot be validated by http-01, only by dns-01 (RFC 8555 section 7.1.3)");
                Self::refused("wildcard-proof", message)
                    .advice("add `--proof fitting`, so that each name gets a fitting challenge; or `--wildcard=no`")
                    .with("parent", parent.as_str())
            }
            Why::NothingBelow(name) => Self::wrong_use(format!("{name} is an address: no names exist below it"))
                .advice("give a hostname with --wildcard"),
            Why::OneSite { site, from } => {
                Self::wrong_use(format!("{site} and {from} are one site")).advice("give hostnames of two sites")
            }
            Why::SharedAlready { from, further } => {
                Self::refused("shared-already", format!("{from} itself shares the certificate of {further}"))
                    .advice(format!("give --from {further}"))
                    .with("from", from.as_str())
                    .with("further", further.as_str())
            }
            Why::NothingToShare { site, from } => {
                Self::refused("nothing-to-share", format!("{from} has no certificate that {site} could share"))
                    .advice(format!("issue one first: brightharbor certificate issue {from}"))
                    .with("site", site.as_str())
                    .with("from", from.as_str())
            }
            Why::NotCovered { from, name } => {
                Self::refused("not-covered", format!("the certificate of {from} does not cover {name}"))
                    .advice(format!("have it cover all names below: brightharbor certificate issue {from} --wildcard"))
                    .with("from", from.as_str())
                    .with("hostname", name.as_str())
            }
            Why::OrderedNotCovered { name } => {
                Self::refused("not-covered", format!("the certificate from the CA does not cover {name}"))
                    .advice("it was not installed; ask the CA")
                    .with("hostname", name.as_str())
            }
            Why::Unreadable { site, error } => {
                Self::refused("certificate-unreadable", format!("{site}: the certificate cannot be read: {error}"))
                    .advice("check the file; run it as root")
                    .with("site", site.as_str())
            }
            Why::NothingToRevoke { site, from } => {
                let advice = match &from {
                    Some(from) => format!("it shares that of {from}: brightharbor certificate revoke {from}"),
                    None => "a bought certificate is revoked by its seller".into(),
                };
                Self::refused("nothing-to-revoke", format!("{site} has no certificate from a CA of this harbor"))
                    .advice(advice)
                    .with("site", site.as_str())
            }
            Why::Demand(error) => demand(&error),
            Why::Zone(refused) => refused.into(),
            Why::ProofInZone { zone, error } => {
                Self::refused("zone-refuses", format!("zone {zone} cannot take the challenge record: {error}"))
                    .advice("edit the zone file by hand first")
                    .with("zone", zone.as_str())
            }
        }
    }
}

/// A certificate that does not fit the site, with what to do about it.
fn unfit(error: &Unfit, site: &Host) -> Error {
    let advice = match error {
        Unfit::NoCertificate => {
            "give the certificate's file too; a request (CSR) is only what the seller makes it from".to_string()
        }
        Unfit::OtherKey(_) => format!(
            "give the key that the request was made with; or have it issued again for a new one: brightharbor \
             certificate request {site}"
        ),
        Unfit::Uncovered(_) => "have it issued for all names of the site, or detach those names".into(),
        Unfit::Expired(_) => "get a new one from the seller".into(),
        Unfit::NotYet(_) => "wait until then, or check this machine's clock".into(),
        Unfit::OtherPurpose => "have the seller issue one for a web server".into(),
        Unfit::Weak(_) => "have it issued again, for a P-256 key or RSA 2048".into(),
    };
    Error::refused("unfit", error).advice(advice).with("site", site.as_str())
}

fn demand(error: &DemandError) -> Error {
    use DemandError as Wrong;
    let advice = match error {
        Wrong::Empty | Wrong::TooLarge | Wrong::NoText => "give the file as the seller gave it, with --file",
        Wrong::Nameless => "have the seller check a file: --file FILE --at PATH",
        Wrong::NoRecord(_) | Wrong::OtherType(_) | Wrong::OtherDomain { .. } | Wrong::Typed(_) => {
            "give the record as the seller gave it, such as --record \"_5f3a CNAME 9c1e.seller.example.\""
        }
        _ => "name the path that the seller checks, such as --at /.well-known/pki-validation/8F2C.txt",
    };
    Error::wrong_use(error).advice(advice)
}

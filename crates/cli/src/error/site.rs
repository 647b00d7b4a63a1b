//! Refusals about attaching, changing and detaching.

use brightharbor_core::name::Host;
use brightharbor_core::site::{ByHand, SiteRefusal};

use super::Error;

pub(super) fn not_attached(name: &Host) -> Error {
    Error::refused("not-attached", format!("{name} is not attached"))
        .advice(format!("see `brightharbor site list`, or attach it: brightharbor attach {name} --account ACCOUNT"))
        .with("hostname", name.as_str())
}

impl From<SiteRefusal> for Error {
    fn from(refusal: SiteRefusal) -> Self {
        use SiteRefusal as Why;
        match refusal {
            Why::UnknownAccount(name) => super::account::unknown(&name),
            Why::AlreadyAttached { hostname, kind, account, document_root } => {
                let (kind, root) = (kind.words(), document_root.display());
                let message =
                    format!("{hostname} is already attached: {kind} of account {account}, served from {root}");
                Self::refused("already-attached", message)
                    .advice(format!("check it: brightharbor survey {hostname}"))
                    .with("hostname", hostname.as_str())
                    .with("kind", kind)
                    .with("account", account.as_str())
                    .with("document_root", root.to_string())
            }
            Why::SomebodyElses { hostname, domain, owner } => {
                let message = format!("{hostname} is below {domain}, which belongs to account {owner}");
                Self::refused("somebody-elses", message)
                    .advice(format!("attach it to account {owner}, or ask that customer"))
                    .with("hostname", hostname.as_str())
                    .with("domain", domain.as_str())
                    .with("account", owner.as_str())
            }
            Why::ByHand(ByHand { host, file, line }) => {
                let at = format!("{}:{line}", file.display());
                Self::refused("served-by-hand", format!("the web server serves {host} already: {at}"))
                    .advice(format!(
                        "take {host} out of {} first, so that one of the two answers for it",
                        file.display()
                    ))
                    .with("hostname", host.as_str())
                    .with("file", file.display().to_string())
                    .with("line", line)
            }
            Why::OnlyZone(zone) => {
                Self::refused("only-a-zone", format!("{zone} is not attached: only its zone is kept here"))
                    .advice(format!("to remove the zone: brightharbor zone remove {zone}"))
                    .with("zone", zone.as_str())
            }
            Why::ListenerTakesOurs { file, line, address, port } => {
                let at = format!("{}:{line}", file.display());
                let words = format!(
                    "the block at {at} takes all connections to {address}:{port}, so that no site here would answer"
                );
                Self::refused("listener-clash", words)
                    .advice(format!(
                        "set listen = [\"{address}\"] under [web] in harbor.toml, so that both stand side by side"
                    ))
                    .with("file", file.display().to_string())
                    .with("line", line)
                    .with("address", address.to_string())
            }
            Why::NoNewZone(host) => Self::refused(
                "no-new-zone",
                format!("no new zone is made for {host}, so the zone file would not be used"),
            )
            .advice("leave --from out, and add the records of the file with `record add`")
            .with("hostname", host.as_str()),
            Why::PublicSuffix(name) => {
                let message = format!("`{name}` is a public suffix; choose a name below it");
                Self::refused("public-suffix", message)
                    .advice(format!("attach a name below it, such as bakery.{name}"))
                    .with("hostname", name.as_str())
            }
            Why::NoAddresses => Self::refused("no-addresses", "harbor.toml names no addresses to serve sites at")
                .advice("set `addresses` under [host] in harbor.toml"),
            Why::NewZone(refused) => refused.into(),
            Why::Path(error) => Self::refused("document-root", error).advice(ROOT_ADVICE),
            Why::OutsideHome { document_root, home } => {
                let message =
                    format!("document root {} is outside the home {}", document_root.display(), home.display());
                Self::refused("document-root", message)
                    .advice(ROOT_ADVICE)
                    .with("document_root", document_root.display().to_string())
                    .with("home", home.display().to_string())
            }
            Why::NotOurAddress(address) => {
                let message = format!("{address} is not listed under `addresses` of [host] or `listen` of [web]");
                Self::refused("not-our-address", message)
                    .advice("give an address of this machine, or add it to harbor.toml")
                    .with("address", address.to_string())
            }
            Why::InTheWay(path) => {
                let message = format!(
                    "{} already exists and was not created by brightharbor; not overwriting it",
                    path.display()
                );
                Self::refused("in-the-way", message)
                    .advice("check the file and move it away, then try again")
                    .with("path", path.display().to_string())
            }
            Why::RootIsThere(path) => Self::refused("root-is-there", format!("{} already exists", path.display()))
                .advice("serve what is in it with --existing, or choose another folder")
                .with("document_root", path.display().to_string()),
            Why::NotAttached(name) => not_attached(&name),
            Why::LeadsBack(target, hostname) => {
                Self::refused("alias-loop", format!("{} leads back to {hostname}", target.bare()))
                    .advice("name the server that really responds")
                    .with("target", target.bare())
                    .with("hostname", hostname.as_str())
            }
            Why::AliasAtApex(name) => {
                let message = format!("{name} is a domain: an alias there would replace its mail and nameservers");
                Self::refused("alias-at-apex", message)
                    .advice(format!(
                        "attach www.{name} with --served-by, and redirect {name} to it: brightharbor redirect add"
                    ))
                    .with("hostname", name.as_str())
            }
            Why::NoZone(name) => Self::refused("no-zone", format!("no zone of this harbor holds {name}"))
                .advice("add the record where the zone is kept; or attach its domain here first")
                .with("hostname", name.as_str()),
            Why::NothingToServe(name) => {
                let message = format!("{name} is not a new domain: nothing to attach without a site");
                Self::refused("nothing-to-serve", message)
                    .advice(format!("add its records instead: brightharbor record add {name} TYPE DATA"))
                    .with("hostname", name.as_str())
            }
            Why::ZoneRefuses { zone, error } => {
                Self::refused("zone-refuses", format!("zone {zone} cannot take the records: {error}"))
                    .advice("edit the zone file by hand first")
                    .with("zone", zone.as_str())
            }
            Why::ZoneKeepsAddresses { zone, error } => {
                Self::refused("zone-refuses", format!("the addresses cannot be removed from zone {zone}: {error}"))
                    .advice("edit the zone file by hand first, or remove the zone with --zone remove")
                    .with("zone", zone.as_str())
            }
            Why::ZoneInUse { zone, by, owner } => {
                let whose = owner.as_ref().map(|owner| format!(" of account {owner}")).unwrap_or_default();
                let message = format!("zone {zone} cannot be removed: it still holds {by}{whose}");
                let advice = match &owner {
                    Some(owner) => format!("give the zones to that account: --zones-to {owner}"),
                    None => "detach that name in the same call, or keep the zone: omit --zone remove".into(),
                };
                Self::refused("zone-in-use", message)
                    .advice(advice)
                    .with("zone", zone.as_str())
                    .with("hostname", by.as_str())
            }
            Why::HstsWithoutHttps(site) => {
                Self::refused("hsts-without-https", format!("{site}: HSTS needs http-to-https first"))
                    .advice(format!("force https first: brightharbor site change {site} --https forced"))
                    .with("site", site.as_str())
            }
            Why::UnknownPhp { version, known } => {
                let message = format!("harbor.toml has no PHP {version}");
                let advice = match &known[..] {
                    [] => format!(
                        "add [php.\"{version}\"] to harbor.toml (docs/settings.md), or name its socket: php:unix:SOCKET"
                    ),
                    known => format!("choose one that it has: {}", known.join(", ")),
                };
                Self::refused("unknown-php", message).advice(advice).with("version", version)
            }
            Why::NoHtaccess(site) => Self::refused("no-htaccess", "only Apache httpd reads files named .htaccess")
                .advice(format!(
                    "say it by options of `site change {site}` (--front-script, --missing-page, --cache), by `redirect add` \
                     or `site protect`, or in a file of your own (docs/operation.md)"
                ))
                .with("site", site.as_str()),
            Why::PhpWithoutUser(account) => {
                let message = format!("account {account} has no system user that its scripts could run as");
                Self::refused("php-without-user", message)
                    .advice(format!(
                        "give it one: brightharbor account change {account} --system-user USER; or name a socket of \
                         somebody else's PHP: php:unix:SOCKET"
                    ))
                    .with("account", account.as_str())
            }
            Why::NotProtected { site, path } => {
                Self::refused("not-protected", format!("everybody may see {path} of {site} already"))
                    .advice(format!("see what is protected: brightharbor site show {site}"))
                    .with("site", site.as_str())
                    .with("path", path)
            }
            Why::NoSuchUser { name, path } => {
                Self::refused("no-such-user", format!("{name} has no password for {path}"))
                    .advice("see who has: brightharbor site show HOSTNAME")
                    .with("user", name)
                    .with("path", path)
            }
            Why::NoSuchPart { site, path } => Self::refused("no-such-part", format!("{site} has no part at {path}"))
                .advice(format!("see which it has: brightharbor site show {site}"))
                .with("site", site.as_str())
                .with("path", path),
            Why::Limit(reached) => reached.into(),
        }
    }
}

const ROOT_ADVICE: &str = "correct `document-root` under [sites] in harbor.toml, or the account's home";

//! What decisions about sites tell.

use brightharbor_core::name::Host;
use brightharbor_core::site::{Cached, Content, Guard, HttpsState, Part, Site, SiteRemark, WwwPolicy};
use brightharbor_core::zone::show_seconds;
use serde_json::json;

use super::{Told, listed};
use crate::show::json::PartDocument;

pub(super) fn told(remark: &SiteRemark) -> Told {
    use SiteRemark as Is;
    match remark {
        Is::Attached { hostname, kind, account, twin, document_root } => {
            let (twin_words, root) = (with_twin(twin.as_ref()), document_root.display());
            let what = format!("{hostname}{twin_words} to {account} as {}, served from {root}", kind.words());
            Told::act("attached", "Attached", "attach", what)
                .with("hostname", hostname.as_str())
                .with("kind", kind.words())
                .with("account", account.as_str())
                .with("twin", twin.as_ref().map(Host::as_str))
                .with("document_root", root.to_string())
        }
        Is::AliasDomain { hostname, twin, site } => {
            let what = format!("{hostname}{} as alias domain of {site}", with_twin(twin.as_ref()));
            Told::act("alias-domain", "Attached", "attach", what)
                .with("hostname", hostname.as_str())
                .with("twin", twin.as_ref().map(Host::as_str))
                .with("site", site.as_str())
        }
        Is::ZoneOnly { hostname } => {
            let words = format!("{hostname}: zone without a site; add its records, or attach it later");
            Told::fact("zone-only", words).with("hostname", hostname.as_str())
        }
        Is::ServedElsewhere { hostname, by } => {
            let what = format!("{hostname}, served by {}", by.bare());
            Told::act("served-elsewhere", "Attached", "attach", what)
                .with("hostname", hostname.as_str())
                .with("by", by.bare())
        }
        Is::SharesRoot { document_root, with } => {
            let words = format!("the document root {} overlaps that of {with}", document_root.display());
            Told::fact("shares-root", words)
                .with("document_root", document_root.display().to_string())
                .with("site", with.as_str())
        }
        Is::NearMiss { hostname, known } => {
            let words = format!("{hostname} differs from {known}, which exists here, by one letter");
            Told::fact("near-miss", words).with("hostname", hostname.as_str()).with("known", known.as_str())
        }
        Is::Detached { site } => Told::act("detached", "Detached", "detach", format!("{site} with all its names"))
            .with("site", site.as_str()),
        Is::NamesDetached { site, names } => {
            let names: Vec<String> = names.iter().map(ToString::to_string).collect();
            Told::act("names-detached", "Detached", "detach", format!("{} from site {site}", listed(&names)))
                .with("site", site.as_str())
                .with("names", names)
        }
        Is::PagesStay { document_root } => {
            Told::fact("pages-stay", format!("Its pages stay in {}", document_root.display()))
                .with("document_root", document_root.display().to_string())
        }
        Is::CertificateStays { folder } => {
            let words = format!("Its certificate stays in {} and is not renewed", folder.display());
            Told::fact("certificate-stays", words).with("folder", folder.display().to_string())
        }
        Is::DocumentRoot { site, before, after } => {
            let words = format!("{site}: document root {}; {} stays as it is", after.display(), before.display());
            Told::fact("document-root", words)
                .with("site", site.as_str())
                .with("before", before.display().to_string())
                .with("after", after.display().to_string())
        }
        Is::Www { site, policy } => Told::fact("www", format!("{site}: www is {}", www_words(*policy)))
            .with("site", site.as_str())
            .with("policy", serde_json::to_value(policy).unwrap_or_default()),
        Is::HttpsForced { site, later } => {
            let names = later.iter().map(Host::as_str).collect::<Vec<_>>();
            let when = match names[..] {
                [] => String::new(),
                _ => format!("; for {} once a certificate covers it", names.join(", ")),
            };
            Told::fact("https-forced", format!("{site}: http redirects to https{when}"))
                .with("site", site.as_str())
                .with("later", names)
        }
        Is::HttpsOffered { site } => {
            Told::fact("https-offered", format!("{site}: served over http and https alike")).with("site", site.as_str())
        }
        Is::Tls { site, only_13 } => {
            let words = match only_13 {
                true => "only TLS 1.3 is offered; older clients cannot connect",
                false => "TLS 1.2 and 1.3 are offered",
            };
            Told::fact("tls", format!("{site}: {words}")).with("site", site.as_str()).with("only_13", *only_13)
        }
        Is::Hsts { site, seconds } => {
            let words = match seconds {
                Some(seconds) => format!(
                    "browsers that visit use https only for {}; that cannot be taken back from them",
                    show_seconds((*seconds).into())
                ),
                None => "HSTS is off; browsers that visited before keep to https until their time is over".into(),
            };
            Told::fact("hsts", format!("{site}: {words}")).with("site", site.as_str()).with("seconds", *seconds)
        }
        Is::Parts { site, parts } => {
            let words = |part: &Part| match &part.path[..] {
                "/" => format!("everything else by {}", part.by.words()),
                path => format!("{path} is answered by {}", part.by.words()),
            };
            let words = match &parts[..] {
                [only] => format!("{site} is answered by {}", only.by.words()),
                parts => format!("{site}: {}", parts.iter().map(words).collect::<Vec<_>>().join(", ")),
            };
            Told::fact("parts", words)
                .with("site", site.as_str())
                .with("parts", json!(parts.iter().map(PartDocument::from).collect::<Vec<_>>()))
        }
        Is::ContentOptions { site, content } => {
            let words = content_words(content).into_iter().map(|(name, words)| format!("{name}: {words}"));
            let words = words.collect::<Vec<_>>().join("; ");
            Told::fact("content-options", format!("{site}: {}", if words.is_empty() { "all as usual" } else { &words }))
                .with("site", site.as_str())
        }
        Is::Protected { site, guard } => {
            let words = format!("{} of {site} for {}", guard.path, guard_words(guard));
            Told::act("protected", "Protected", "protect", words)
                .with("site", site.as_str())
                .with("path", guard.path.as_str())
                .with("users", guard.users.clone())
                .with("from", guard.from.iter().map(ToString::to_string).collect::<Vec<_>>())
        }
        Is::NotProtected { site, path } => {
            Told::fact("protection-off", format!("{path} of {site} is there for everybody"))
                .with("site", site.as_str())
                .with("path", path.as_str())
        }
        Is::OwnDirectives { site, path, gone } => {
            let path = path.as_ref().map(|path| path.display().to_string()).unwrap_or_default();
            let (past, base) = if *gone { ("Left out", "leave out") } else { ("Took in", "take in") };
            Told::act("own-directives", past, base, format!("your own directives for {site}: {path}"))
                .with("site", site.as_str())
                .with("path", path)
                .with("gone", *gone)
        }
        Is::PoolMade { account, version, user } => Told::act(
            "pool-made",
            "Set up",
            "set up",
            format!("a pool of PHP {version} for account {account}, run as {user}"),
        )
        .with("account", account.as_str())
        .with("version", version.as_str())
        .with("user", user.as_str()),
        Is::PoolGone { account, version } => {
            Told::act("pool-gone", "Removed", "remove", format!("the pool of PHP {version} of account {account}"))
                .with("account", account.as_str())
                .with("version", version.as_str())
        }
        Is::PoolEdited { account, path } => {
            let words = format!("note: {} was edited by hand, and is left alone", path.display());
            Told::fact("pool-edited", words).with("account", account.as_str()).with("path", path.display().to_string())
        }
        Is::RootIsOpen { document_root, group } => {
            let root = document_root.display();
            let words = format!(
                "note: every user of this machine can read {root}, also programs of other accounts; to close it: chgrp \
                 {group} {root} && chmod 750 {root}"
            );
            Told::fact("root-is-open", words).with("document_root", root.to_string()).with("group", group.as_str())
        }
        Is::TwinBack { site, twin } => {
            Told::act("twin-back", "Attached", "attach", format!("{twin} to site {site} again"))
                .with("site", site.as_str())
                .with("twin", twin.as_str())
        }
        Is::HandedOver { site, account } => {
            Told::act("site-handed-over", "Handed over", "hand over", format!("site {site} to account {account}"))
                .with("site", site.as_str())
                .with("account", account.as_str())
        }
        Is::StaysWithItsAccount { hostname } => {
            let words = format!("note: {hostname} belongs to another account, and stays with it");
            Told::fact("stays-with-its-account", words).with("hostname", hostname.as_str())
        }
        Is::EditKept { site, copy } => {
            let words = format!("the edited file of {site} as {}", copy.display());
            Told::act("edit-kept", "Kept", "keep", words)
                .with("site", site.as_str())
                .with("copy", copy.display().to_string())
        }
        Is::FileWrittenAgain { site, path } => {
            Told::act("file-written-again", "Rewrote", "rewrite", format!("the file of {site}: {}", path.display()))
                .with("site", site.as_str())
                .with("path", path.display().to_string())
        }
    }
}

fn with_twin(twin: Option<&Host>) -> String {
    twin.map(|twin| format!(" and {twin}")).unwrap_or_default()
}

pub fn www_words(policy: WwwPolicy) -> &'static str {
    match policy {
        WwwPolicy::Also => "served alike",
        WwwPolicy::ToBare => "redirected to the bare name",
        WwwPolicy::ToWww => "where the bare name redirects to",
        WwwPolicy::None => "not part of the site",
    }
}

/// For whom a path is.
fn guard_words(guard: &Guard) -> String {
    let from = guard.from.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
    match (guard.users.is_empty(), from.is_empty()) {
        (false, true) => format!("the users {}", listed(&guard.users)),
        (true, _) => format!("visitors from {from}"),
        (false, false) => format!("the users {}, from {from}", listed(&guard.users)),
    }
}

/// How the content of a site differs from what is usual: the name of each option, and what it is set to.
pub fn content_words(content: &Content) -> Vec<(&'static str, String)> {
    let mut all = Vec::new();
    let mut add = |name, words: Option<String>| all.extend(words.map(|words| (name, words)));
    let guarded = |guard: &Guard| format!("{} for {}", guard.path, guard_words(guard));
    let guards = content.guards.iter().map(guarded).collect::<Vec<_>>();
    add("protected", (!guards.is_empty()).then(|| guards.join("; ")));
    add("folder pages", (!content.index.is_empty()).then(|| content.index.join(", ")));
    add("listing", content.listing.then(|| "folders without such a page are listed".into()));
    add("single page", content.single_page.clone());
    add("404 page", content.missing_page.clone());
    let cached = |one: &Cached| format!("{} for {}", one.endings.join(", "), show_seconds(one.seconds.into()));
    let kept = content.cache.iter().map(cached).collect::<Vec<_>>();
    add("kept", (!kept.is_empty()).then(|| kept.join("; ")));
    add("front script", content.front.then(|| "index.php for every path that is no file".into()));
    add("no scripts", (!content.no_scripts.is_empty()).then(|| content.no_scripts.join(", ")));
    let groups: Vec<&str> = content.htaccess.iter().map(|group| group.word()).collect();
    add(".htaccess", (!groups.is_empty()).then(|| format!("may set {}", groups.join(", "))));
    add("body limit", content.body_limit.map(size_words));
    add("time limit", content.time_limit.map(|seconds| show_seconds(seconds.into())));
    all
}

fn size_words(bytes: u64) -> String {
    match bytes {
        _ if bytes.is_multiple_of(1 << 30) => format!("{}G", bytes >> 30),
        _ if bytes.is_multiple_of(1 << 20) => format!("{}M", bytes >> 20),
        _ if bytes.is_multiple_of(1 << 10) => format!("{}K", bytes >> 10),
        _ => format!("{bytes} bytes"),
    }
}

/// The state as one word, in lists and for programs.
pub fn https_word(state: HttpsState) -> &'static str {
    match state {
        HttpsState::None => "none",
        HttpsState::Offered => "offered",
        HttpsState::Forced => "forced",
    }
}

/// Each state that hosts of the site have, in words, with the hosts where not all have the same.
pub fn https_by_state(site: &Site) -> Vec<(&'static str, String)> {
    let mut states: Vec<(HttpsState, Vec<&str>)> = Vec::new();
    for host in &site.hostnames {
        let state = site.https_of(host);
        match states.iter_mut().find(|(known, _)| *known == state) {
            Some((_, hosts)) => hosts.push(host.as_str()),
            None => states.push((state, vec![host.as_str()])),
        }
    }
    match &states[..] {
        [(state, _)] => vec![(https_words(*state), String::new())],
        all => all.iter().map(|(state, hosts)| (https_words(*state), format!(": {}", hosts.join(", ")))).collect(),
    }
}

fn https_words(state: HttpsState) -> &'static str {
    match state {
        HttpsState::None => "none yet",
        HttpsState::Offered => "served beside http",
        HttpsState::Forced => "http redirects to https",
    }
}

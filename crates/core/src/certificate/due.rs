//! What a run of the timer has to do about certificates: which sites get one, which get another although theirs is good,
//! which only have to be proven, and which have to wait.
//!
//! When a certificate is due by its dates is `renewal`'s; getting it is the command's.

use std::collections::HashSet;

use jiff::Timestamp;

use crate::certificate::{Certificate, CertificateSource, CertificateState, Waiting};
use crate::harbor::Settings;
use crate::name::Host;
use crate::site::{HttpsState, Site, SiteKind};

/// No site is in two of the lists.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Due {
    /// Those that wait and may be tried, whose time has come, or whose source has another one.
    pub wanting: Vec<Host>,
    /// Those whose CA wants another one to be had (RFC 9773), whatever their dates say.
    pub called_back: Vec<Host>,
    /// Those with one that no handshake has shown yet.
    pub unproven: Vec<Host>,
    /// Those that are not to be tried before the time that they name.
    pub later: Vec<Waiting>,
}

/// The certificates that a CA may call back: its own, but those of sites that have to wait.
pub fn to_ask_about<'a>(
    certificates: &'a [Certificate],
    waiting: &'a [Waiting],
    now: Timestamp,
) -> impl Iterator<Item = &'a Certificate> {
    let later: HashSet<&Host> = waiting.iter().filter(|one| has_to_wait(one, now)).map(|one| &one.site).collect();
    certificates.iter().filter(move |one| one.source == CertificateSource::Ca && !later.contains(&one.site))
}

/// Whether the timer gets a certificate for those hosts of a site that none covers: where a CA of the settings is to be
/// asked, and the one in place is not somebody else's affair.
pub fn is_awaited(site: &Site, certificate: Option<&Certificate>, settings: &Settings) -> bool {
    let wish = &site.rules.certificate;
    let has_ca = settings.ca_named(wish.ca.as_deref()).is_some_and(|ca| ca.directory.is_some());
    let imported = certificate.is_some_and(|one| one.source == CertificateSource::Imported);
    // Few CAs issue for addresses: for those somebody asks.
    let named = site.kind != SiteKind::ByAddress;
    let has_wildcard = |parent| certificate.is_some_and(|one| one.details.wildcards.contains(parent));
    let open = site.hostnames.iter().any(|host| site.https_of(host) == HttpsState::None)
        || certificate.is_some_and(|one| one.source == CertificateSource::SelfSigned)
        || !wish.wildcards.iter().all(has_wildcard);
    has_ca && named && open && !imported && wish.from.is_none()
}

/// Sorts the sites into what is to be done. `awaited` are those with hosts that no certificate covers, `outdated` those
/// that share a certificate which has changed.
pub fn due(
    waiting: Vec<Waiting>,
    certificates: &[Certificate],
    awaited: Vec<Host>,
    outdated: Vec<Host>,
    called_back: Vec<Host>,
    now: Timestamp,
) -> Due {
    let (later, ready): (Vec<Waiting>, Vec<Waiting>) = waiting.into_iter().partition(|one| has_to_wait(one, now));
    let mut taken: HashSet<Host> = later.iter().map(|one| one.site.clone()).collect();
    let mut take =
        |sites: Vec<Host>| -> Vec<Host> { sites.into_iter().filter(|site| taken.insert(site.clone())).collect() };
    let of = |kind: &dyn Fn(&Certificate) -> bool| -> Vec<Host> {
        certificates.iter().filter(|one| kind(one)).map(|one| one.site.clone()).collect()
    };
    let called_back = take(called_back);
    let mut wanting = take(ready.into_iter().map(|one| one.site).collect());
    wanting.extend(take(awaited));
    wanting.extend(take(of(&|one| one.is_due(now))));
    wanting.extend(take(outdated));
    let unproven = take(of(&|one| one.state == CertificateState::Installed));
    Due { wanting, called_back, unproven, later }
}

fn has_to_wait(waiting: &Waiting, now: Timestamp) -> bool {
    waiting.not_before.is_some_and(|not_before| not_before > now)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::certificate::{CertificateDetails, CertificateFiles};

    fn at(text: &str) -> Timestamp {
        text.parse().unwrap()
    }

    fn host(label: &str) -> Host {
        Host::parse(&format!("{label}.example")).unwrap()
    }

    fn certificate(label: &str, not_after: &str, state: CertificateState, source: CertificateSource) -> Certificate {
        Certificate {
            site: host(label),
            names: vec![host(label)],
            files: CertificateFiles { folder: "/harbor/1".into() },
            not_before: at("2026-10-01T00:00:00Z"),
            not_after: at(not_after),
            state,
            source,
            details: CertificateDetails::default(),
        }
    }

    fn waiting(label: &str, not_before: Option<&str>) -> Waiting {
        Waiting {
            site: host(label),
            since: at("2026-11-01T00:00:00Z"),
            not_before: not_before.map(at),
            reason: String::new(),
        }
    }

    #[test]
    fn each_site_has_one_turn_and_what_has_to_wait_has_none() {
        use CertificateSource::{Ca, Imported};
        use CertificateState::{Installed, Revoked, Served};
        let now = at("2026-11-27T00:00:00Z");
        let (soon, far) = ("2026-12-01T00:00:00Z", "2027-02-01T00:00:00Z");
        let certificates = [
            certificate("good", far, Served, Ca),
            certificate("old", soon, Served, Ca),
            certificate("old-but-held-back", soon, Installed, Ca),
            certificate("unproven", far, Installed, Imported),
            certificate("revoked", far, Revoked, Ca),
            certificate("called-and-old", soon, Installed, Ca),
            certificate("bought", soon, Served, Imported),
        ];
        let all = vec![
            waiting("new", None),
            waiting("old-but-held-back", Some("2026-11-27T01:00:00Z")),
            waiting("ready", Some("2026-11-26T23:00:00Z")),
        ];
        let asked: Vec<&str> = to_ask_about(&certificates, &all, now).map(|one| one.site.as_str()).collect();
        assert_eq!(asked, ["good.example", "old.example", "revoked.example", "called-and-old.example"]);
        let called_back = vec![host("called-and-old"), host("old-but-held-back")];
        let due = due(
            all,
            &certificates,
            vec![host("awaited"), host("old-but-held-back")],
            vec![host("shares"), host("old")],
            called_back,
            now,
        );
        let names = |sites: &[Host]| sites.iter().map(|site| site.to_string()).collect::<Vec<_>>().join(" ");
        assert_eq!(
            names(&due.wanting),
            "new.example ready.example awaited.example old.example revoked.example shares.example"
        );
        assert_eq!(names(&due.called_back), "called-and-old.example");
        assert_eq!(names(&due.unproven), "unproven.example");
        assert_eq!(due.later, [waiting("old-but-held-back", Some("2026-11-27T01:00:00Z"))]);
    }
}

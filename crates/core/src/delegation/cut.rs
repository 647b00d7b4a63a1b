//! The zone that a name lies in, as the DNS itself shows it (RFC 9499 section 7, "zone cut"). The public suffix list only
//! guesses: names are registered below empty ones, and domains delegate names below them to others.

use super::{Picture, Registered};
use crate::name::{DnsName, Hostname, registrable_domain};

/// The domain to look at for a name that somebody has typed, by a walk for that very name: the name itself if it is
/// delegated, else the zone that it lies in; the list's guess where neither can be told. `None`: a public suffix that is no
/// zone of its own.
pub fn domain_of(name: &Hostname, picture: &Picture) -> Option<Hostname> {
    let guess = registrable_domain(name);
    let shown: Option<DnsName> = match picture.registered {
        Registered::Yes => Some(name.dns_name()),
        // Or where the way down ends: at a zone whose servers do not answer.
        Registered::No | Registered::Unknown(_) => Some(picture.parent_zone.clone()),
    };
    // A zone above the guess only says that the guess is not registered.
    let below = |zone: &DnsName| guess.as_ref().is_none_or(|guess| zone.is_within(&guess.dns_name()));
    let shown = shown.filter(below).and_then(|zone| Hostname::parse_zone(&zone.bare()).ok());
    match shown {
        Some(zone) if guess.is_some() || zone == *name => Some(zone),
        _ => guess,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(name: &str, registered: Registered, parent: &str) -> Option<String> {
        let parent_zone = if parent == "." { DnsName::root() } else { DnsName::absolute(parent).unwrap() };
        let picture = Picture { registered, parent_zone, ..Picture::unasked(DnsName::root()) };
        domain_of(&Hostname::parse(name).unwrap(), &picture).map(String::from)
    }

    #[test]
    fn the_dns_says_where_a_zone_begins_and_the_list_only_guesses() {
        use Registered::{No, Unknown, Yes};
        let gullrock = Some("gullrock.example".to_string());
        assert_eq!(told("gullrock.example", Yes, "example"), gullrock);
        assert_eq!(told("www.gullrock.example", No, "gullrock.example"), gullrock);
        assert_eq!(told("lab.gullrock.example", Yes, "gullrock.example").as_deref(), Some("lab.gullrock.example"));
        assert_eq!(told("a.lab.gullrock.example", No, "lab.gullrock.example").as_deref(), Some("lab.gullrock.example"));
        // Registered below a name that is no zone, and that the list does not know.
        assert_eq!(told("windlass.co.test", Yes, "test").as_deref(), Some("windlass.co.test"));
        assert_eq!(told("www.windlass.co.test", No, "windlass.co.test").as_deref(), Some("windlass.co.test"));
        // Not registered, or nobody to ask: what people mean is the guess.
        assert_eq!(told("www.notyet.example", No, "example").as_deref(), Some("notyet.example"));
        assert_eq!(told("www.gullrock.example", Unknown("silence".into()), "."), gullrock);
        // A public suffix is a zone too, if it is one.
        assert_eq!(told("co.uk", Yes, "uk").as_deref(), Some("co.uk"));
        assert_eq!(told("co.uk", No, "uk"), None);
        assert_eq!(told("2.0.192.in-addr.arpa", Yes, "192.in-addr.arpa").as_deref(), Some("2.0.192.in-addr.arpa"));
    }
}

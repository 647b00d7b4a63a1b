//! Where the registrable part of a hostname begins, by the public suffix list that is built in.
//!
//! Only the list's rules are applied here; whether the domain is really registered is for `delegation` to see.

use super::{DnsName, Host, Hostname};

/// The public suffix of a name in lower case. The one place where the list is asked: it is compiled in wherever it is used.
#[inline(never)]
fn public_suffix(name: &str) -> Option<psl::Suffix<'_>> {
    psl::suffix(name.as_bytes())
}

/// Whether a name ends in a top-level domain that is in use, or one with rules of its own below it.
pub fn ends_in_known_suffix(name: &str) -> bool {
    public_suffix(name).is_some_and(|suffix| suffix.is_known())
}

/// The registrable domain of a hostname: its public suffix and one label more. `None` if the name is itself a
/// public suffix, such as `co.uk`.
pub fn registrable_domain(hostname: &Hostname) -> Option<Hostname> {
    let name = hostname.as_str();
    let suffix = public_suffix(name)?.as_bytes().len();
    let above = name.get(..name.len().checked_sub(suffix + 1)?)?;
    let begins = above.rfind('.').map_or(0, |dot| dot + 1);
    Hostname::parse(&name[begins..]).ok()
}

/// Whether the hostname is exactly a registrable domain.
pub fn is_registrable(hostname: &Hostname) -> bool {
    registrable_domain(hostname).as_ref() == Some(hostname)
}

/// The registrable domain above a name that need not be a hostname (`_dmarc`), or is it.
pub fn domain_above(name: &DnsName) -> Option<Hostname> {
    let hostnames = std::iter::successors(Some(name.clone()), DnsName::parent)
        .filter_map(|candidate| Hostname::parse(&candidate.bare()).ok());
    hostnames.map(|hostname| registrable_domain(&hostname)).next().flatten()
}

/// The hosts by the domain that each lies in, in their order; addresses have none. What is known of one domain says
/// nothing about another.
/// `zone_of` knows zones that begin elsewhere than the list guesses.
pub fn by_domain(
    hosts: &[Host],
    zone_of: impl Fn(&Hostname) -> Option<Hostname>,
) -> Vec<(Option<Hostname>, Vec<Host>)> {
    let mut domains: Vec<(Option<Hostname>, Vec<Host>)> = Vec::new();
    for host in hosts {
        let guess = |name: &Hostname| registrable_domain(name).unwrap_or_else(|| name.clone());
        let domain = host.name().map(|name| zone_of(name).unwrap_or_else(|| guess(name)));
        match domains.iter_mut().find(|(known, _)| *known == domain) {
            Some((_, hosts)) => hosts.push(host.clone()),
            None => domains.push((domain, vec![host.clone()])),
        }
    }
    domains
}

#[cfg(test)]
mod tests {
    use super::*;

    fn domain_of(name: &str) -> Option<String> {
        registrable_domain(&Hostname::parse(name).unwrap()).map(String::from)
    }

    #[test]
    fn suffixes_of_one_and_of_two_labels() {
        assert_eq!(domain_of("shop.crumbandtide.example").as_deref(), Some("crumbandtide.example"));
        assert_eq!(domain_of("crumbandtide.example").as_deref(), Some("crumbandtide.example"));
        assert_eq!(domain_of("www.bakery.co.uk").as_deref(), Some("bakery.co.uk"));
        assert_eq!(domain_of("co.uk"), None);
        assert!(is_registrable(&Hostname::parse("bakery.co.uk").unwrap()));
        assert!(!is_registrable(&Hostname::parse("www.bakery.co.uk").unwrap()));
    }

    #[test]
    fn a_name_of_the_dns_has_a_domain_above_it_too() {
        let above = |text: &str| domain_above(&DnsName::absolute(text).unwrap()).map(String::from);
        assert_eq!(above("_dmarc.shop.gullrock.example").as_deref(), Some("gullrock.example"));
        assert_eq!(above("gullrock.example").as_deref(), Some("gullrock.example"));
        assert_eq!((above("_dmarc.example"), above("co.uk")), (None, None));
    }

    #[test]
    fn hosts_are_sorted_by_the_domain_that_each_lies_in() {
        let hosts = ["gullrock.example", "quay.example", "www.gullrock.example", "192.0.2.10", "co.uk"]
            .map(|text| Host::parse(text).unwrap());
        let lab = Hostname::parse("lab.gullrock.example").unwrap();
        let www = Host::parse("www.lab.gullrock.example").unwrap();
        let kept =
            by_domain(&[www, hosts[0].clone()], |name| name.as_str().ends_with(lab.as_str()).then(|| lab.clone()));
        assert_eq!(kept.iter().map(|(domain, _)| domain.clone()).next().flatten(), Some(lab.clone()));
        assert_eq!(kept.len(), 2, "a zone of its own is no part of the domain above");
        let told: Vec<String> = by_domain(&hosts, |_| None)
            .into_iter()
            .map(|(domain, hosts)| format!("{}: {hosts:?}", domain.map(String::from).unwrap_or_default()))
            .collect();
        let expected = [
            "gullrock.example: [gullrock.example, www.gullrock.example]",
            "quay.example: [quay.example]",
            ": [192.0.2.10]",
            "co.uk: [co.uk]",
        ];
        assert_eq!(told, expected);
    }
}

//! Where the registrable part of a hostname begins, by the public suffix list that is built in.
//!
//! Only the list's rules are applied here; whether the domain is really registered is for `delegation` to see.

use super::Hostname;

/// The registrable domain of a hostname: its public suffix and one label more. `None` if the name is itself a
/// public suffix, such as `co.uk`.
pub fn registrable_domain(hostname: &Hostname) -> Option<Hostname> {
    if hostname.address().is_some() {
        return None;
    }
    let domain = psl::domain_str(hostname.as_str())?;
    Hostname::parse(domain).ok()
}

/// Whether the hostname is exactly a registrable domain.
pub fn is_registrable(hostname: &Hostname) -> bool {
    registrable_domain(hostname).as_ref() == Some(hostname)
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
}

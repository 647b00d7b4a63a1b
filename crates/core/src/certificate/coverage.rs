//! Which hostnames a certificate covers (RFC 9525 section 6.3).

use crate::name::Host;

/// Whether one of the names covers the hostname; a `*` stands for exactly one whole label.
pub fn covers(names: &[String], hostname: &Host) -> bool {
    names.iter().any(|name| match name.strip_prefix("*.") {
        Some(parent) => hostname.as_str().split_once('.').is_some_and(|(_, rest)| rest == parent),
        None => name == hostname.as_str(),
    })
}

/// The hostnames that are left uncovered.
pub fn uncovered<'a>(names: &[String], hostnames: &'a [Host]) -> Vec<&'a Host> {
    hostnames.iter().filter(|hostname| !covers(names, hostname)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn wildcards_cover_one_label() {
        let names = vec!["*.gullrock.example".to_string(), "lanternchoir.example".to_string()];
        let covered = |text: &str| covers(&names, &Host::parse(text).unwrap());
        assert!(covered("www.gullrock.example"));
        assert!(!covered("gullrock.example"));
        assert!(!covered("a.b.gullrock.example"));
        assert!(covered("lanternchoir.example"));
        assert!(!covered("www.lanternchoir.example"));
        let both = ["gullrock.example", "www.gullrock.example"].map(|n| Host::parse(n).unwrap());
        assert_eq!(uncovered(&names, &both), [&both[0]]);
    }
}

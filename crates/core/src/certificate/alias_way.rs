//! The way to where the records of a name stand: the name itself, or where its aliases lead (RFC 1034 section 3.6.2). A
//! machine without I/O: it says which name to ask about next, and takes the aliases of the answer.

use crate::name::{DnsName, Hostname, domain_above};

/// Somebody who needs more has a loop.
const MOST_ALIASES: usize = 4;

/// ```
/// use brightharbor_core::certificate::AliasWay;
/// use brightharbor_core::name::DnsName;
/// let name = |text| DnsName::absolute(text).unwrap();
/// let mut way = AliasWay::new(name("_acme-challenge.gullrock.example"));
/// way.answered(&[name("proofs.saltmarsh.example")]);
/// assert_eq!(way.next().unwrap().1.as_str(), "saltmarsh.example");
/// way.answered(&[]);
/// assert!(way.next().is_none() && way.end() == name("proofs.saltmarsh.example"));
/// ```
#[derive(Debug, Clone)]
pub struct AliasWay {
    at: DnsName,
    followed: usize,
    over: bool,
}

impl AliasWay {
    pub fn new(name: DnsName) -> Self {
        Self { at: name, followed: 0, over: false }
    }

    /// The name to ask about, and the domain whose servers know; `None` when it is over.
    pub fn next(&self) -> Option<(&DnsName, Hostname)> {
        if self.over {
            return None;
        }
        Some((&self.at, domain_above(&self.at)?))
    }

    /// Takes the aliases of the name, in their order; none: this is the end.
    pub fn answered(&mut self, aliases: &[DnsName]) {
        match aliases.last() {
            Some(target) => self.at = target.clone(),
            None => self.over = true,
        }
        self.followed += 1;
        self.over |= self.followed == MOST_ALIASES;
    }

    /// Where the records stand, as far as the way was gone.
    pub fn end(self) -> DnsName {
        self.at
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_way_that_goes_round_or_leaves_all_domains_comes_to_an_end() {
        let name = |text: &str| DnsName::absolute(text).unwrap();
        let mut way = AliasWay::new(name("a.gullrock.example"));
        let mut asked = 0;
        while way.next().is_some() {
            way.answered(&[name(if asked % 2 == 0 { "b.gullrock.example" } else { "a.gullrock.example" })]);
            asked += 1;
        }
        assert_eq!((asked, way.end()), (MOST_ALIASES, name("a.gullrock.example")));
        let mut way = AliasWay::new(name("_acme-challenge.gullrock.example"));
        way.answered(&[name("c.quay.example"), name("proofs")]);
        assert!(way.next().is_none(), "no domain is above");
        assert_eq!(way.end(), name("proofs"));
    }
}

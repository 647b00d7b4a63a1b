//! The way to the CAA records that count for a name (RFC 8659 section 3): from the name upwards, at each step through its
//! aliases, to the nearest set. A machine without I/O: it says which name to ask for next, and takes the answer.

use super::caa::CAA;
use crate::name::{DnsName, Host};
use crate::zone::{Record, RecordData};

/// CAs follow a few as well (RFC 8659 section 3).
const MOST_ALIASES: usize = 4;

/// ```
/// use brightharbor_core::certificate::CaaClimb;
/// use brightharbor_core::name::Host;
/// let mut climb = CaaClimb::new(&Host::parse("www.gullrock.example").unwrap());
/// let mut asked = vec![];
/// while let Some(name) = climb.next() {
///     asked.push(name.bare());
///     climb.answered(None);
/// }
/// assert_eq!(asked, ["www.gullrock.example", "gullrock.example", "example"]);
/// ```
#[derive(Debug, Clone)]
pub struct CaaClimb {
    /// The name on the way up; `None`: it is over.
    at: Option<DnsName>,
    /// What that is an alias of, as far as it was followed.
    alias: Option<DnsName>,
    followed: usize,
    found: Vec<Record>,
}

impl CaaClimb {
    pub fn new(name: &Host) -> Self {
        let at = name.dns_name().filter(|name| !name.is_root());
        Self { at, alias: None, followed: 0, found: vec![] }
    }

    /// The name whose CAA records are to be asked for; `None` when it is over. The root is not asked.
    pub fn next(&self) -> Option<&DnsName> {
        self.alias.as_ref().or(self.at.as_ref())
    }

    /// Takes the answer section; `None`: nobody answered, which counts as no records.
    pub fn answered(&mut self, answer: Option<&[Record]>) {
        let answer = answer.unwrap_or_default();
        self.found = answer.iter().filter(|record| record.record_type() == CAA).cloned().collect();
        if !self.found.is_empty() {
            (self.at, self.alias) = (None, None);
            return;
        }
        let alias = answer.iter().rev().find_map(|record| match &record.data {
            RecordData::Cname(target) => Some(target.clone()),
            _ => None,
        });
        self.followed += 1;
        if alias.is_some() && self.followed < MOST_ALIASES {
            self.alias = alias;
            return;
        }
        (self.alias, self.followed) = (None, 0);
        self.at = self.at.take().and_then(|here| here.parent()).filter(|above| !above.is_root());
    }

    /// The record set that counts; empty where there is none.
    pub fn found(self) -> Vec<Record> {
        self.found
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::zone::Document;

    fn records(lines: &str) -> Vec<Record> {
        let text = format!("$TTL 60\n@ SOA ns1 host 7 4h 30m 4w 5m\n@ NS ns1.example.\n{lines}");
        let document = Document::parse(text, &DnsName::absolute("gullrock.example").unwrap()).unwrap();
        let wanted = |record: &&Record| record.record_type() == CAA || matches!(record.data, RecordData::Cname(_));
        document.records().filter(wanted).cloned().collect()
    }

    /// The names that are asked for, with these answers; and how many records are found.
    fn asked(name: &str, answers: &[(&str, &str)]) -> (Vec<String>, usize) {
        let mut climb = CaaClimb::new(&Host::parse(name).unwrap());
        let mut asked = vec![];
        while let Some(name) = climb.next() {
            let name = name.bare();
            let answer = answers.iter().find(|(of, _)| *of == name).map(|(_, lines)| records(lines));
            climb.answered(answer.as_deref());
            asked.push(name);
            assert!(asked.len() < 20, "{asked:?}");
        }
        (asked, climb.found().len())
    }

    #[test]
    fn the_nearest_set_counts_and_an_address_has_none() {
        let set = "@ CAA 0 issue \"ca.example\"\n@ CAA 0 iodef \"mailto:a@ca.example\"\n";
        let found = asked("a.gullrock.example", &[("gullrock.example", set), ("example", "@ CAA 0 issue \";\"\n")]);
        assert_eq!(found, (vec!["a.gullrock.example".into(), "gullrock.example".into()], 2));
        assert_eq!(asked("192.0.2.10", &[]), (vec![], 0));
    }

    #[test]
    fn aliases_are_followed_before_the_way_goes_on_and_not_for_ever() {
        let to_cdn = "a CNAME cdn.example.\n";
        let (names, found) = asked("a.gullrock.example", &[("a.gullrock.example", to_cdn)]);
        assert_eq!(
            (&names[..3], found),
            (&["a.gullrock.example", "cdn.example", "gullrock.example"].map(String::from)[..], 0)
        );
        let set = "@ CAA 0 issue \"ca.example\"\n";
        let (names, found) = asked("a.gullrock.example", &[("a.gullrock.example", to_cdn), ("cdn.example", set)]);
        assert_eq!((names.len(), found), (2, 1));
        let round = [("a.gullrock.example", to_cdn), ("cdn.example", "x CNAME a\n")];
        let (names, found) = asked("a.gullrock.example", &round);
        assert_eq!((names.iter().filter(|name| *name == "cdn.example").count(), found), (2, 0), "{names:?}");
        assert_eq!(names.last().unwrap(), "example");
    }
}

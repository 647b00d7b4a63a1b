//! Trust anchors: the keys of the root that validation begins with, read from what other validators keep them in. Who
//! reads the file is above; `chain` begins with what comes out.

use super::chain::ROOT_ANCHORS;
use super::{Ds, Key};
use crate::name::DnsName;
use crate::zone::Document;

/// Why a file of trust anchors cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum AnchorError {
    #[error("line {line}: {reason}")]
    Line { line: usize, reason: String },
    #[error("line {0}: this is neither a DS nor a DNSKEY record")]
    Type(usize),
    #[error("it has no key of the root that is valid")]
    None,
}

/// The keys of the root that are known without a file.
pub fn built_in_anchors() -> Vec<Ds> {
    read_anchors(&ROOT_ANCHORS.join("\n")).expect("built-in anchors are well-formed")
}

/// Reads DS and DNSKEY records of the root in zone file form. In a file that a validator keeps up by RFC 5011, keys count
/// whose state, in the comment behind them, is VALID or MISSING; keys that are revoked never do.
pub fn read_anchors(text: &str) -> Result<Vec<Ds>, AnchorError> {
    let root = DnsName::root();
    let counts = |line: &str| {
        let state = line.split_once(";;state=").map(|(_, state)| state.trim_start());
        state.is_none_or(|state| state.starts_with(['2', '3']))
    };
    // A zone begins with a start of authority; the line that is put before is taken off the numbers again.
    let mut zone = String::from(". 0 IN SOA . . 1 1 1 1 1");
    for line in text.lines() {
        zone.push('\n');
        zone.push_str(if counts(line) { line } else { "" });
    }
    zone.push('\n');
    let document = Document::parse(zone, &root)
        .map_err(|error| AnchorError::Line { line: error.line.saturating_sub(1), reason: error.problem.to_string() })?;
    let mut anchors = Vec::new();
    for (at, record) in document.records().enumerate().skip(1) {
        match (Ds::of(record), Key::of(record)) {
            (Some(ds), _) => anchors.push(ds),
            (None, Some(key)) if key.may_sign() => anchors.push(key.ds(&root)),
            (None, Some(_)) => {}
            (None, None) => return Err(AnchorError::Type(at)),
        }
    }
    if anchors.is_empty() { Err(AnchorError::None) } else { Ok(anchors) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn records_of_the_root_are_read_as_validators_keep_them() {
        let tags = |text: &str| read_anchors(text).map(|all| all.iter().map(|ds| ds.key_tag).collect::<Vec<_>>());
        assert_eq!(built_in_anchors().iter().map(|ds| ds.key_tag).collect::<Vec<_>>(), [20326, 38696]);
        let key = "AQIDBAUGBwgJCgsMDQ4PEBESExQVFhcYGRobHB0eHyAhIiMkJSYnKCkqKywtLi8wMTIzNDU2Nzg5Ojs8PT4/QA==";
        let valid = format!(
            "; autotrust trust anchor file\n.\t86400\tIN\tDNSKEY\t257 3 13 {key} ;{{id = 2098}} ;;state=2 [  VALID  ] ;;count=0\n"
        );
        assert_eq!(tags(&valid), Ok(vec![2098]));
        assert_eq!(
            tags(&valid.replace("state=2", "state=1")),
            Err(AnchorError::None),
            "its hold-down time is not over"
        );
        assert_eq!(tags(&valid.replace("257 3", "385 3")), Err(AnchorError::None), "it is revoked");
        assert_eq!(tags(""), Err(AnchorError::None));
        assert_eq!(tags(". 60 IN A 192.0.2.1\n"), Err(AnchorError::Type(1)));
        assert!(matches!(tags("\n. DS 20326 8\n"), Err(AnchorError::Line { line: 2, .. })));
    }
}

//! A domain name as the DNS holds it: labels of arbitrary bytes, compared without case (RFC 4343).
//!
//! Kept in wire form (RFC 1035 section 3.1), lower-cased. For names that visitors type, with the narrower rules of
//! host names, see `hostname`.

use std::fmt;
use std::str::FromStr;
use std::sync::Arc;

use serde::{Deserialize, Serialize};

/// An absolute domain name, lower-cased. Printed with its final dot, escaped as in a zone file.
#[derive(Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct DnsName {
    /// Shared: the records of one owner, and everything that speaks of it, hold the same bytes.
    wire: Arc<[u8]>,
}

/// Why a text or a label sequence is not a domain name.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum DnsNameError {
    #[error("a name must not be empty (write `.` for the root, `@` for the zone itself)")]
    Empty,
    #[error("an empty label: two dots in a row, or a dot at the start")]
    EmptyLabel,
    #[error("the label `{0}` is longer than 63 bytes")]
    LabelTooLong(String),
    #[error("the name is longer than 255 bytes")]
    NameTooLong,
    #[error("a backslash must be followed by one character or by three digits up to 255")]
    BadEscape,
}

impl DnsName {
    /// The root of the DNS, printed as `.`.
    pub fn root() -> Self {
        Self { wire: Arc::from([0]) }
    }

    /// Reads a name in zone file form (RFC 1035 section 5.1). A name without a final dot is completed with `origin`.
    pub fn parse(text: &str, origin: &DnsName) -> Result<Self, DnsNameError> {
        if text == "@" {
            return Ok(origin.clone());
        }
        if text == "." {
            return Ok(Self::root());
        }
        if text.is_empty() {
            return Err(DnsNameError::Empty);
        }
        // Written in place: a large zone reads millions of names.
        let mut wire = [0; 256];
        let (mut length_at, mut end) = (0, 1);
        let bytes = text.as_bytes();
        let mut at = 0;
        let mut absolute = false;
        // Without escapes, as names are, the text is the wire form but for its dots.
        if bytes.len() < 255 && memchr::memchr(b'\\', bytes).is_none() {
            wire[1..=bytes.len()].copy_from_slice(bytes);
            wire[1..=bytes.len()].make_ascii_lowercase();
            for dot in memchr::memchr_iter(b'.', bytes) {
                close_label(&mut wire, length_at, dot + 1)?;
                length_at = dot + 1;
            }
            absolute = bytes.ends_with(b".");
            (at, end) = (bytes.len(), bytes.len() + 1);
        }
        while at < bytes.len() {
            absolute = bytes[at] == b'.';
            if absolute {
                close_label(&mut wire, length_at, end)?;
                length_at = end;
                at += 1;
            } else {
                let (byte, used) = match bytes[at] {
                    b'\\' => unescape(&bytes[at..]).ok_or(DnsNameError::BadEscape)?,
                    byte => (byte, 1),
                };
                // A label may still be too long by itself, which is the better thing to say.
                if end >= 255 {
                    close_label(&mut wire, length_at, end)?;
                    return Err(DnsNameError::NameTooLong);
                }
                wire[end] = byte.to_ascii_lowercase();
                at += used;
            }
            end += 1;
        }
        if absolute {
            // The label begun behind the last dot is the root's, with its length of zero.
            wire[length_at] = 0;
            end = length_at + 1;
        } else {
            close_label(&mut wire, length_at, end)?;
            let whole = end + origin.wire.len();
            if whole > 255 {
                return Err(DnsNameError::NameTooLong);
            }
            wire[end..whole].copy_from_slice(&origin.wire);
            end = whole;
        }
        if end > 255 {
            return Err(DnsNameError::NameTooLong);
        }
        Ok(Self { wire: Arc::from(&wire[..end]) })
    }

    /// Reads a name that is absolute whether or not it ends in a dot, as people write nameserver names.
    pub fn absolute(text: &str) -> Result<Self, DnsNameError> {
        Self::parse(text, &Self::root())
    }

    /// Builds a name from labels, the leftmost first; each label is taken byte for byte.
    pub fn from_labels<'a>(labels: impl IntoIterator<Item = &'a [u8]>) -> Result<Self, DnsNameError> {
        // Written in place: a check of many domains reads a name for every record of every answer.
        let (mut wire, mut end) = ([0; 256], 0);
        for label in labels {
            if label.is_empty() {
                return Err(DnsNameError::EmptyLabel);
            }
            if label.len() > 63 {
                return Err(DnsNameError::LabelTooLong(String::from_utf8_lossy(label).into_owned()));
            }
            if end + label.len() + 2 > 255 {
                return Err(DnsNameError::NameTooLong);
            }
            wire[end] = label.len() as u8;
            wire[end + 1..=end + label.len()].copy_from_slice(label);
            wire[end + 1..=end + label.len()].make_ascii_lowercase();
            end += label.len() + 1;
        }
        Ok(Self { wire: Arc::from(&wire[..=end]) })
    }

    /// The name as it travels in messages (RFC 1035 section 3.1).
    pub fn wire(&self) -> &[u8] {
        &self.wire
    }

    pub fn is_root(&self) -> bool {
        self.wire.len() == 1
    }

    /// The labels, leftmost first, without the root's empty one.
    pub fn labels(&self) -> impl Iterator<Item = &[u8]> {
        let mut at = 0;
        std::iter::from_fn(move || {
            let length = self.wire[at] as usize;
            (length > 0).then(|| {
                let label = &self.wire[at + 1..at + 1 + length];
                at += 1 + length;
                label
            })
        })
    }

    /// The name one label up; `None` for the root.
    pub fn parent(&self) -> Option<DnsName> {
        let length = self.wire[0] as usize;
        (length > 0).then(|| DnsName { wire: self.wire[1 + length..].into() })
    }

    /// Whether this name is `ancestor` itself or lies below it.
    pub fn is_within(&self, ancestor: &DnsName) -> bool {
        let mut at = 0;
        loop {
            let rest = &self.wire[at..];
            if rest.len() <= ancestor.wire.len() {
                return *rest == *ancestor.wire;
            }
            at += 1 + self.wire[at] as usize;
        }
    }

    /// The labels left of `zone`, as written in its zone file (`@` for the zone itself); `None` outside the zone.
    pub fn relative_to(&self, zone: &DnsName) -> Option<String> {
        if !self.is_within(zone) {
            return None;
        }
        if self == zone {
            return Some("@".into());
        }
        let full = self.to_string();
        let kept = self.labels().count() - zone.labels().count();
        let mut end = 0;
        for label in self.labels().take(kept) {
            end += escaped(label).len() + 1;
        }
        Some(full[..end - 1].to_string())
    }

    /// The name without its final dot, for people; the root stays `.`.
    pub fn bare(&self) -> String {
        let full = self.to_string();
        if self.is_root() { full } else { full[..full.len() - 1].to_string() }
    }
}

/// Writes the length of the label between `length_at` and `end`.
fn close_label(wire: &mut [u8; 256], length_at: usize, end: usize) -> Result<(), DnsNameError> {
    match end - length_at - 1 {
        0 => Err(DnsNameError::EmptyLabel),
        length @ 1..=63 => {
            wire[length_at] = length as u8;
            Ok(())
        }
        _ => {
            let label = String::from_utf8_lossy(&wire[length_at + 1..end]).into_owned();
            Err(DnsNameError::LabelTooLong(label))
        }
    }
}

/// One escape of RFC 1035 section 5.1 at the start of `bytes`: the byte meant and the length of the escape.
fn unescape(bytes: &[u8]) -> Option<(u8, usize)> {
    match bytes {
        [b'\\', a, b, c, ..] if a.is_ascii_digit() && b.is_ascii_digit() && c.is_ascii_digit() => {
            let value = (a - b'0') as u32 * 100 + (b - b'0') as u32 * 10 + (c - b'0') as u32;
            u8::try_from(value).ok().map(|byte| (byte, 4))
        }
        [b'\\', byte, ..] if !byte.is_ascii_digit() => Some((*byte, 2)),
        _ => None,
    }
}

fn escaped(label: &[u8]) -> String {
    let mut text = String::with_capacity(label.len());
    for &byte in label {
        match byte {
            b'.' | b'"' | b'(' | b')' | b';' | b'@' | b'\\' | b'$' => {
                text.push('\\');
                text.push(byte as char);
            }
            0x21..=0x7e => text.push(byte as char),
            _ => text.push_str(&format!("\\{byte:03}")),
        }
    }
    text
}

impl fmt::Display for DnsName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.is_root() {
            return f.write_str(".");
        }
        for label in self.labels() {
            write!(f, "{}.", escaped(label))?;
        }
        Ok(())
    }
}

impl fmt::Debug for DnsName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{self}")
    }
}

impl FromStr for DnsName {
    type Err = DnsNameError;
    fn from_str(text: &str) -> Result<Self, DnsNameError> {
        Self::absolute(text)
    }
}

impl TryFrom<String> for DnsName {
    type Error = DnsNameError;
    fn try_from(text: String) -> Result<Self, DnsNameError> {
        Self::absolute(&text)
    }
}

impl From<DnsName> for String {
    fn from(name: DnsName) -> String {
        name.to_string()
    }
}

impl Ord for DnsName {
    /// Canonical order of RFC 4034 section 6.1: by labels from the right.
    fn cmp(&self, other: &Self) -> std::cmp::Ordering {
        let (mut left, mut right): (Vec<_>, Vec<_>) = (self.labels().collect(), other.labels().collect());
        left.reverse();
        right.reverse();
        left.cmp(&right)
    }
}

impl PartialOrd for DnsName {
    fn partial_cmp(&self, other: &Self) -> Option<std::cmp::Ordering> {
        Some(self.cmp(other))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn name(text: &str) -> DnsName {
        DnsName::absolute(text).unwrap()
    }

    #[test]
    fn relative_names_take_the_origin_and_absolute_ones_do_not() {
        let origin = name("crumbandtide.example.");
        assert_eq!(DnsName::parse("www", &origin).unwrap().to_string(), "www.crumbandtide.example.");
        assert_eq!(DnsName::parse("www.", &origin).unwrap().to_string(), "www.");
        assert_eq!(DnsName::parse("@", &origin).unwrap(), origin);
        assert_eq!(DnsName::parse(".", &origin).unwrap(), DnsName::root());
    }

    #[test]
    fn escapes_are_read_and_written() {
        let odd = name(r"bread\.baker.crumb\097nd\000tide.example.");
        assert_eq!(odd.labels().next().unwrap(), b"bread.baker");
        assert_eq!(odd.to_string(), r"bread\.baker.crumband\000tide.example.");
        assert_eq!(name(&odd.to_string()), odd);
        assert_eq!(DnsName::absolute(r"a\2.example"), Err(DnsNameError::BadEscape));
        assert_eq!(DnsName::absolute(r"a\256.example"), Err(DnsNameError::BadEscape));
        assert_eq!(DnsName::absolute("a\\"), Err(DnsNameError::BadEscape));
    }

    #[test]
    fn lengths_are_bounded_by_the_wire_form() {
        let long = "a".repeat(64);
        assert!(matches!(DnsName::absolute(&long), Err(DnsNameError::LabelTooLong(_))));
        let label = "a".repeat(63);
        let fits = format!("{label}.{label}.{label}.{}", "b".repeat(61));
        assert!(DnsName::absolute(&fits).is_ok());
        assert_eq!(DnsName::absolute(&format!("{fits}c")), Err(DnsNameError::NameTooLong));
        assert_eq!(DnsName::absolute("a..b"), Err(DnsNameError::EmptyLabel));
        assert_eq!(DnsName::absolute(".a"), Err(DnsNameError::EmptyLabel));
        assert_eq!(DnsName::absolute(""), Err(DnsNameError::Empty));
    }

    #[test]
    fn within_compares_whole_labels_without_case() {
        assert!(name("WWW.GullRock.example").is_within(&name("gullrock.example")));
        assert!(name("gullrock.example").is_within(&name("gullrock.example")));
        assert!(!name("notgullrock.example").is_within(&name("gullrock.example")));
        assert!(name("a.b").is_within(&DnsName::root()));
        assert!(!name("example").is_within(&name("gullrock.example")));
        assert_eq!(name("a.b.gullrock.example").relative_to(&name("gullrock.example")).unwrap(), "a.b");
        assert_eq!(name("gullrock.example").relative_to(&name("gullrock.example")).unwrap(), "@");
        assert_eq!(name("gullrock.example").relative_to(&name("choir.example")), None);
    }
}

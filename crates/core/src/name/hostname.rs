//! A hostname: a name that visitors type, by the rules of RFC 952, RFC 1123 section 2.1 and IDNA (UTS 46).
//!
//! Kept in its ASCII form. What people paste and what was probably meant is said in the error. DNS names in general
//! (underscores, escapes) are `dns_name`; where an address may stand in place of a name, it is a `host`.

use std::fmt;

use serde::{Deserialize, Serialize};

use super::DnsName;

/// A valid hostname of at least two labels: ASCII form, lower-cased, without a final dot.
#[derive(Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Hostname(String);

/// Why a text is not a hostname.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum HostnameError {
    #[error("the hostname is empty")]
    Empty,
    #[error("`{0}` has a blank inside")]
    Blank(String),
    #[error("`{0}` is an address, not a hostname")]
    Address(String),
    #[error("`{typed}` is a URL, not a hostname; its hostname is `{meant}`")]
    Url { typed: String, meant: String },
    #[error("`{0}` has an empty label (two dots in a row, or a dot at the start)")]
    EmptyLabel(String),
    #[error("the label `{label}` has {length} characters; 63 are allowed")]
    LabelTooLong { label: String, length: usize },
    #[error("the hostname has {length} characters; 253 are allowed")]
    NameTooLong { length: usize },
    #[error("`{character}` is not allowed in a hostname (found in `{label}`)")]
    Character { label: String, character: char },
    #[error("the label `{0}` must not begin or end with a hyphen")]
    Hyphen(String),
    #[error("`{0}` is not a valid international name")]
    International(String),
    #[error("`{0}` is a single label; a hostname needs its domain, as in `{0}.example`")]
    SingleLabel(String),
    /// Browsers take it for an address, and no top-level domain is a number (RFC 3696 section 2).
    #[error("`{0}` ends in a number, as an address does; no domain ends so")]
    NumberAtTheEnd(String),
    #[error("`{typed}` repeats its domain; `{meant}` was probably meant")]
    Doubled { typed: String, meant: String },
}

impl Hostname {
    /// Whether the name stands for addresses (RFC 1035 section 3.5, RFC 3596 section 2.5).
    pub fn is_reverse(&self) -> bool {
        [".in-addr.arpa", ".ip6.arpa"].iter().any(|end| self.0.ends_with(end))
    }

    /// Reads a hostname as typed: outer blanks and one final dot are dropped, case is folded, an international name
    /// becomes its ASCII form.
    pub fn parse(typed: &str) -> Result<Self, HostnameError> {
        Self::read(typed, false)
    }

    /// Reads the name of a zone as typed: a hostname, or a reverse zone of part of a network in the form of RFC 2317
    /// section 4, which no hostname may have.
    ///
    /// ```
    /// use brightharbor_core::name::Hostname;
    /// assert!(Hostname::parse_zone("0/25.2.0.192.in-addr.arpa").is_ok());
    /// assert!(Hostname::parse("0/25.2.0.192.in-addr.arpa").is_err());
    /// ```
    pub fn parse_zone(typed: &str) -> Result<Self, HostnameError> {
        Self::read(typed, true)
    }

    fn read(typed: &str, zone: bool) -> Result<Self, HostnameError> {
        let text = typed.trim();
        let reverse = !text.contains(':') && lies_in_v4_reverse(text);
        let ranges = zone && reverse;
        if text.is_empty() {
            return Err(HostnameError::Empty);
        }
        if let Some(meant) = hostname_of_url(text).filter(|_| !reverse) {
            return Err(HostnameError::Url { typed: shortened(text), meant });
        }
        if text.contains(char::is_whitespace) {
            return Err(HostnameError::Blank(shortened(text)));
        }
        if super::host::address_in(text).is_some() {
            return Err(HostnameError::Address(text.to_string()));
        }
        let text = text.strip_suffix('.').unwrap_or(text);
        let ascii = to_ascii(text)?;
        if ascii.len() > 253 {
            return Err(HostnameError::NameTooLong { length: ascii.len() });
        }
        for label in ascii.split('.').filter(|label| !(ranges && is_range(label))) {
            check_label(label, text)?;
        }
        let labels: Vec<&str> = ascii.split('.').collect();
        if labels.len() == 1 {
            return Err(HostnameError::SingleLabel(ascii));
        }
        if labels.last().is_some_and(|label| label.bytes().all(|byte| byte.is_ascii_digit())) {
            return Err(HostnameError::NumberAtTheEnd(ascii));
        }
        if let Some(meant) = without_repetition(&labels) {
            return Err(HostnameError::Doubled { typed: ascii, meant });
        }
        Ok(Self(ascii))
    }

    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The name as a reader of its script knows it; the ASCII form when it has no other.
    pub fn international(&self) -> String {
        let (text, outcome) = idna::domain_to_unicode(&self.0);
        if outcome.is_ok() { text } else { self.0.clone() }
    }

    pub fn dns_name(&self) -> DnsName {
        DnsName::absolute(&self.0).expect("every hostname is a DNS name")
    }

    /// The hostname one label up, if that still has two labels.
    pub fn parent(&self) -> Option<Hostname> {
        let (_, rest) = self.0.split_once('.')?;
        rest.contains('.').then(|| Hostname(rest.to_string()))
    }

    /// The ancestors from the nearest to the farthest, this name not included.
    pub fn ancestors(&self) -> impl Iterator<Item = Hostname> {
        std::iter::successors(self.parent(), Hostname::parent)
    }

    /// This name with `www.` before it; `None` if that would be too long.
    pub fn with_www(&self) -> Option<Hostname> {
        Hostname::parse(&format!("www.{}", self.0)).ok()
    }

    /// The name behind a leading `www.`, if there is one and a hostname is left.
    pub fn without_www(&self) -> Option<Hostname> {
        let rest = self.0.strip_prefix("www.")?;
        rest.contains('.').then(|| Hostname(rest.to_string()))
    }
}

/// Whether a text ends as the reverse names of IPv4 addresses do.
fn lies_in_v4_reverse(text: &str) -> bool {
    text.strip_suffix('.').unwrap_or(text).to_ascii_lowercase().ends_with(".in-addr.arpa")
}

/// A label such as `0/25` or `64/26`: where a range begins, and the length of its prefix.
fn is_range(label: &str) -> bool {
    let Some((first, length)) = label.split_once('/') else { return false };
    let number = |text: &str| text.parse::<u8>().ok().filter(|number| number.to_string() == text);
    number(first).is_some() && number(length).is_some_and(|length| length <= 32)
}

fn to_ascii(text: &str) -> Result<String, HostnameError> {
    if text.is_ascii() {
        return Ok(text.to_ascii_lowercase());
    }
    idna::domain_to_ascii(text).map_err(|_| HostnameError::International(shortened(text)))
}

fn check_label(label: &str, whole: &str) -> Result<(), HostnameError> {
    if label.is_empty() {
        return Err(HostnameError::EmptyLabel(shortened(whole)));
    }
    if label.len() > 63 {
        return Err(HostnameError::LabelTooLong { label: shortened(label), length: label.len() });
    }
    if let Some(character) = label.chars().find(|c| !c.is_ascii_alphanumeric() && *c != '-') {
        return Err(HostnameError::Character { label: label.to_string(), character });
    }
    if label.starts_with('-') || label.ends_with('-') {
        return Err(HostnameError::Hyphen(label.to_string()));
    }
    if label.starts_with("xn--") && idna::domain_to_unicode(label).1.is_err() {
        return Err(HostnameError::International(label.to_string()));
    }
    Ok(())
}

/// `a.b.a.b` for `a.b`: the same two or more labels twice at the end.
fn without_repetition(labels: &[&str]) -> Option<String> {
    (2..=labels.len() / 2).rev().find_map(|count| {
        let (rest, tail) = labels.split_at(labels.len() - count);
        rest.ends_with(tail).then(|| rest.join("."))
    })
}

fn hostname_of_url(text: &str) -> Option<String> {
    let after_scheme = text.split_once("://").map(|(_, rest)| rest);
    let has_path = text.contains('/');
    if after_scheme.is_none() && !has_path {
        return None;
    }
    let authority = after_scheme.unwrap_or(text).split(['/', '?', '#']).next()?;
    let host = authority.rsplit('@').next()?.split(':').next()?;
    Some(shortened(host))
}

/// Bounds what an error message repeats of hostile input.
fn shortened(text: &str) -> String {
    if text.chars().count() <= 80 {
        return text.to_string();
    }
    text.chars().take(77).chain("...".chars()).collect()
}

impl fmt::Display for Hostname {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

impl fmt::Debug for Hostname {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl std::str::FromStr for Hostname {
    type Err = HostnameError;
    fn from_str(text: &str) -> Result<Self, HostnameError> {
        Self::parse(text)
    }
}

impl TryFrom<String> for Hostname {
    type Error = HostnameError;
    fn try_from(text: String) -> Result<Self, HostnameError> {
        Self::parse_zone(&text)
    }
}

impl From<Hostname> for String {
    fn from(name: Hostname) -> String {
        name.0
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn plain_names_are_folded_and_lose_their_final_dot() {
        assert_eq!(Hostname::parse("  CrumbAndTide.Example. ").unwrap().as_str(), "crumbandtide.example");
        assert_eq!(Hostname::parse("bäckerei.example").unwrap().as_str(), "xn--bckerei-5wa.example");
        assert_eq!(Hostname::parse("xn--bckerei-5wa.example").unwrap().international(), "bäckerei.example");
    }

    #[test]
    fn what_is_wrong_is_named() {
        let error = |typed: &str| Hostname::parse(typed).unwrap_err();
        assert_eq!(error(" "), HostnameError::Empty);
        assert_eq!(error("crumb andtide.example"), HostnameError::Blank("crumb andtide.example".into()));
        assert_eq!(error("192.0.2.7"), HostnameError::Address("192.0.2.7".into()));
        assert_eq!(error("[2001:db8::7]"), HostnameError::Address("[2001:db8::7]".into()));
        assert_eq!(error("crumb..example"), HostnameError::EmptyLabel("crumb..example".into()));
        assert_eq!(error("-crumb.example"), HostnameError::Hyphen("-crumb".into()));
        assert_eq!(error("7.0"), HostnameError::NumberAtTheEnd("7.0".into()));
        assert!(Hostname::parse("7.0x").is_ok() && Hostname::parse("0.7.example").is_ok());
        assert_eq!(error("bakery"), HostnameError::SingleLabel("bakery".into()));
        assert_eq!(
            error("crumb_tide.example"),
            HostnameError::Character { label: "crumb_tide".into(), character: '_' }
        );
        assert!(matches!(
            error(&format!("{}.example", "a".repeat(64))),
            HostnameError::LabelTooLong { length: 64, .. }
        ));
        assert!(matches!(error(&format!("{}example", "ab.".repeat(90))), HostnameError::NameTooLong { length: 277 }));
        assert!(matches!(error("xn--a.example"), HostnameError::International(_)));
    }

    #[test]
    fn a_zone_may_be_part_of_a_network_and_a_hostname_may_not() {
        for part in ["0/25.2.0.192.in-addr.arpa", "64/26.2.0.192.in-addr.arpa.", "255/32.2.0.192.IN-ADDR.ARPA"] {
            let zone = Hostname::parse_zone(part).unwrap_or_else(|error| panic!("{part}: {error}"));
            assert_eq!(zone.parent().unwrap().as_str(), "2.0.192.in-addr.arpa");
            assert!(matches!(Hostname::parse(part), Err(HostnameError::Character { character: '/', .. })), "{part}");
            assert_eq!(serde_json::from_str::<Hostname>(&serde_json::to_string(&zone).unwrap()).unwrap(), zone);
        }
        for wrong in ["0/33", "256/25", "00/25", "0/", "/25", "0/25/1", "..", "../x", "a/25", "+1/25"] {
            assert!(Hostname::parse_zone(&format!("{wrong}.2.0.192.in-addr.arpa")).is_err(), "{wrong}");
        }
        assert!(Hostname::parse_zone("0/25.gullrock.example").is_err());
        let url = Hostname::parse_zone("https://2.0.192.in-addr.arpa/");
        assert!(matches!(url, Err(HostnameError::Url { .. })), "{url:?}");
    }

    #[test]
    fn pasted_and_doubled_names_get_the_name_that_was_meant() {
        assert_eq!(
            Hostname::parse("https://user@crumbandtide.example:8443/menu?x").unwrap_err(),
            HostnameError::Url {
                typed: "https://user@crumbandtide.example:8443/menu?x".into(),
                meant: "crumbandtide.example".into()
            }
        );
        assert_eq!(
            Hostname::parse("shop.crumbandtide.example.crumbandtide.example").unwrap_err(),
            HostnameError::Doubled {
                typed: "shop.crumbandtide.example.crumbandtide.example".into(),
                meant: "shop.crumbandtide.example".into()
            }
        );
        assert!(Hostname::parse("www.www.example").is_ok(), "one repeated label is a name like any other");
    }

    #[test]
    fn www_is_put_before_and_taken_away() {
        let bare = Hostname::parse("gullrock.example").unwrap();
        let www = bare.with_www().unwrap();
        assert_eq!(www.as_str(), "www.gullrock.example");
        assert_eq!(www.without_www(), Some(bare.clone()));
        assert_eq!(bare.without_www(), None);
        assert_eq!(Hostname::parse("www.example").unwrap().without_www(), None);
        let names: Vec<String> =
            Hostname::parse("a.b.gullrock.example").unwrap().ancestors().map(String::from).collect();
        assert_eq!(names, ["b.gullrock.example", "gullrock.example"]);
    }

    proptest! {
        #[test]
        fn any_text_is_answered_without_a_panic(text in "\\PC{0,300}") {
            if let Ok(name) = Hostname::parse(&text) {
                prop_assert!(name.as_str().len() <= 253);
                prop_assert_eq!(Hostname::parse(name.as_str()).unwrap(), name);
            }
        }
    }
}

//! Data with a notation of its own: hardware addresses, locators, prefix lists, gateways and host identities. Held in wire form;
//! read from tokens and shown from there.

use std::fmt;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use serde::{Deserialize, Serialize};

use super::from_wire::take;
use super::{DataToken, text};
use crate::name::DnsName;

#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Form {
    /// Six or eight bytes with hyphens between them (RFC 7043).
    Eui48,
    Eui64,
    /// An IPv4 address (RFC 6742 section 2.2).
    Locator32,
    /// Four groups of hexadecimal digits (RFC 6742 sections 2.1, 2.3).
    Locator64,
    /// `0x` and hexadecimal digits, with full stops anywhere (RFC 1706).
    Nsap,
    /// Prefixes of networks (RFC 3123).
    Prefixes,
    /// Precedence, kind of gateway, algorithm, gateway, key (RFC 4025).
    IpsecKey,
    /// Precedence, discovery bit, kind of relay, relay (RFC 8777).
    Relay,
    /// Algorithm, host identity tag, key, rendezvous servers (RFC 8005).
    HostIdentity,
}

impl Form {
    /// Whether it takes all tokens that are left.
    pub fn takes_the_rest(self) -> bool {
        matches!(self, Form::Prefixes | Form::IpsecKey | Form::Relay | Form::HostIdentity)
    }

    /// How many bytes of wire form it has; `None`: all that are left.
    pub fn length(self) -> Option<usize> {
        match self {
            Form::Eui48 => Some(6),
            Form::Eui64 | Form::Locator64 => Some(8),
            Form::Locator32 => Some(4),
            _ => None,
        }
    }
}

/// Reads the data from its tokens; what is not given in the right form is named.
pub(super) fn parse(form: Form, tokens: &[DataToken<'_>], origin: &DnsName) -> Result<Vec<u8>, String> {
    let mut words = Words { tokens, origin };
    let wire = match form {
        Form::Eui48 | Form::Eui64 => eui(&words.next()?, form.length().unwrap_or(6))?,
        Form::Locator32 => address::<Ipv4Addr>(&words.next()?, "IPv4")?.octets().to_vec(),
        Form::Locator64 => locator(&words.next()?)?,
        Form::Nsap => nsap(&words.next()?)?,
        Form::Prefixes => {
            let mut wire = Vec::new();
            while !words.tokens.is_empty() {
                wire.extend(prefix(&words.next()?)?);
            }
            wire
        }
        Form::IpsecKey => {
            let (precedence, kind, algorithm) = (words.number(255)?, words.number(3)?, words.number(255)?);
            let mut wire = vec![precedence as u8, kind as u8, algorithm as u8];
            wire.extend(words.gateway(kind)?);
            let key = words.rest();
            if key.is_empty() {
                return Err("a key is missing at the end".into());
            }
            wire.extend(text::base64(&key)?);
            wire
        }
        Form::Relay => {
            let (precedence, discovery, kind) = (words.number(255)?, words.number(1)?, words.number(127)?);
            let mut wire = vec![precedence as u8, (discovery as u8) << 7 | kind as u8];
            wire.extend(words.gateway(kind)?);
            wire
        }
        Form::HostIdentity => {
            let algorithm = words.number(255)? as u8;
            let (tag, key) = (text::hex(&words.next()?)?, text::base64(&words.next()?)?);
            let length = u8::try_from(tag.len()).map_err(|_| "a host identity tag has at most 255 bytes")?;
            let key_length = u16::try_from(key.len()).map_err(|_| "the key is too long")?;
            let mut wire = vec![length, algorithm];
            wire.extend(key_length.to_be_bytes());
            wire.extend(tag);
            wire.extend(key);
            while !words.tokens.is_empty() {
                wire.extend(words.name()?);
            }
            wire
        }
    };
    match words.tokens.first() {
        None => Ok(wire),
        Some(token) => Err(format!("`{}` is one value too many", text::shortened(&token.text))),
    }
}

/// The tokens that are left.
struct Words<'a, 't> {
    tokens: &'a [DataToken<'t>],
    origin: &'a DnsName,
}

impl Words<'_, '_> {
    fn next(&mut self) -> Result<String, String> {
        let (token, rest) = self.tokens.split_first().ok_or("a value is missing at the end")?;
        self.tokens = rest;
        token.bare().map(str::to_string)
    }

    fn number(&mut self, most: u32) -> Result<u32, String> {
        super::fields::number(&self.next()?, most)
    }

    fn name(&mut self) -> Result<Vec<u8>, String> {
        let word = self.next()?;
        let name = DnsName::parse(&word, self.origin).map_err(|error| format!("`{word}`: {error}"))?;
        Ok(name.wire().to_vec())
    }

    /// Nothing, an address of either family, or a name.
    fn gateway(&mut self, kind: u32) -> Result<Vec<u8>, String> {
        match kind {
            0 => match self.next()?.as_str() {
                "." => Ok(vec![]),
                other => Err(format!("no gateway is written as `.`, not as `{}`", text::shortened(other))),
            },
            1 => Ok(address::<Ipv4Addr>(&self.next()?, "IPv4")?.octets().to_vec()),
            2 => Ok(address::<Ipv6Addr>(&self.next()?, "IPv6")?.octets().to_vec()),
            3 => self.name(),
            other => Err(format!("{other} is not a kind of gateway (0 to 3)")),
        }
    }

    fn rest(&mut self) -> String {
        std::mem::take(&mut self.tokens).iter().map(|token| token.text.as_ref()).collect()
    }
}

fn address<A: std::str::FromStr>(word: &str, family: &str) -> Result<A, String> {
    word.parse().map_err(|_| format!("`{}` is not an {family} address", text::shortened(word)))
}

fn eui(word: &str, length: usize) -> Result<Vec<u8>, String> {
    let bytes: Option<Vec<u8>> =
        word.split('-').map(|pair| u8::from_str_radix(pair, 16).ok().filter(|_| matches!(pair.len(), 1 | 2))).collect();
    let wrong = || format!("`{}` is not {length} bytes with hyphens between them", text::shortened(word));
    bytes.filter(|bytes| bytes.len() == length).ok_or_else(wrong)
}

fn locator(word: &str) -> Result<Vec<u8>, String> {
    let group = |group: &str| u16::from_str_radix(group, 16).ok().filter(|_| (1..=4).contains(&group.len()));
    let groups: Option<Vec<u16>> = word.split(':').map(group).collect();
    let wrong = || format!("`{}` is not four groups of hexadecimal digits", text::shortened(word));
    let groups = groups.filter(|groups| groups.len() == 4).ok_or_else(wrong)?;
    Ok(groups.into_iter().flat_map(u16::to_be_bytes).collect())
}

fn nsap(word: &str) -> Result<Vec<u8>, String> {
    let digits = word.strip_prefix("0x").or_else(|| word.strip_prefix("0X"));
    let digits = digits.ok_or_else(|| format!("`{}` does not begin with 0x", text::shortened(word)))?;
    match &text::hex(&digits.replace('.', ""))?[..] {
        [] => Err("no digit stands behind 0x".into()),
        bytes => Ok(bytes.to_vec()),
    }
}

/// One of `[!]FAMILY:ADDRESS/LENGTH`; bytes of zero at the end are left out (RFC 3123 section 4).
fn prefix(word: &str) -> Result<Vec<u8>, String> {
    let wrong = || format!("`{}` is not a prefix as 1:192.0.2.0/24 or !2:2001:db8::/32", text::shortened(word));
    let (negated, bare) = word.strip_prefix('!').map_or((false, word), |rest| (true, rest));
    let (family, rest) = bare.split_once(':').ok_or_else(wrong)?;
    let (address, length) = rest.split_once('/').ok_or_else(wrong)?;
    let (bytes, most): (Vec<u8>, u32) = match family {
        "1" => (address.parse::<Ipv4Addr>().map_err(|_| wrong())?.octets().to_vec(), 32),
        "2" => (address.parse::<Ipv6Addr>().map_err(|_| wrong())?.octets().to_vec(), 128),
        _ => return Err(wrong()),
    };
    let length = super::fields::number(length, most).map_err(|_| wrong())?;
    let kept = bytes.iter().rposition(|byte| *byte != 0).map_or(0, |last| last + 1);
    let family: u16 = if most == 32 { 1 } else { 2 };
    let mut wire = family.to_be_bytes().to_vec();
    wire.extend([length as u8, u8::from(negated) << 7 | kept as u8]);
    wire.extend(&bytes[..kept]);
    Ok(wire)
}

/// Whether bytes are data of that form.
pub(super) fn fits(form: Form, wire: &[u8]) -> bool {
    form.length().is_none_or(|length| wire.len() == length) && shown(form, wire).is_some()
}

/// The data as it is written in a master file; `None` if the bytes are no data of that form.
pub(super) fn shown(form: Form, mut wire: &[u8]) -> Option<String> {
    Some(match form {
        Form::Eui48 | Form::Eui64 => wire.iter().map(|byte| format!("{byte:02x}")).collect::<Vec<_>>().join("-"),
        Form::Locator32 => Ipv4Addr::from(<[u8; 4]>::try_from(wire).ok()?).to_string(),
        Form::Locator64 => {
            let groups = wire.chunks(2).map(|pair| pair.iter().map(|byte| format!("{byte:02x}")).collect::<String>());
            groups.collect::<Vec<_>>().join(":")
        }
        Form::Nsap => format!("0x{}", hex(wire)),
        Form::Prefixes => {
            let mut all = Vec::new();
            while !wire.is_empty() {
                all.push(shown_prefix(&mut wire)?);
            }
            all.join(" ")
        }
        Form::IpsecKey => {
            let [precedence, kind, algorithm] = *take(&mut wire, 3)? else { return None };
            let gateway = shown_gateway(kind, &mut wire)?;
            format!("{precedence} {kind} {algorithm} {gateway} {}", base64(wire)).trim_end().to_string()
        }
        Form::Relay => {
            let [precedence, kind] = *take(&mut wire, 2)? else { return None };
            let gateway = shown_gateway(kind & 0x7f, &mut wire)?;
            wire.is_empty().then(|| format!("{precedence} {} {} {gateway}", kind >> 7, kind & 0x7f))?
        }
        Form::HostIdentity => {
            let [length, algorithm, high, low] = *take(&mut wire, 4)? else { return None };
            let tag = take(&mut wire, length.into())?;
            let key = take(&mut wire, u16::from_be_bytes([high, low]).into())?;
            let mut all = vec![algorithm.to_string(), hex(tag), base64(key)];
            while !wire.is_empty() {
                all.push(super::from_wire::name(&mut wire)?.to_string());
            }
            all.join(" ")
        }
    })
}

fn shown_prefix(wire: &mut &[u8]) -> Option<String> {
    let [high, low, length, flags] = *take(wire, 4)? else { return None };
    let kept = take(wire, (flags & 0x7f).into())?;
    let family = u16::from_be_bytes([high, low]);
    let address: IpAddr = match (family, kept.len()) {
        (1, 0..=4) => Ipv4Addr::from(padded::<4>(kept)).into(),
        (2, 0..=16) => Ipv6Addr::from(padded::<16>(kept)).into(),
        _ => return None,
    };
    Some(format!("{}{family}:{address}/{length}", if flags & 0x80 != 0 { "!" } else { "" }))
}

fn shown_gateway(kind: u8, wire: &mut &[u8]) -> Option<String> {
    Some(match kind {
        0 => ".".into(),
        1 => Ipv4Addr::from(<[u8; 4]>::try_from(take(wire, 4)?).ok()?).to_string(),
        2 => Ipv6Addr::from(<[u8; 16]>::try_from(take(wire, 16)?).ok()?).to_string(),
        3 => super::from_wire::name(wire)?.to_string(),
        _ => return None,
    })
}

fn padded<const N: usize>(bytes: &[u8]) -> [u8; N] {
    let mut whole = [0; N];
    whole[..bytes.len()].copy_from_slice(bytes);
    whole
}

fn hex(bytes: &[u8]) -> String {
    Shown(|f: &mut fmt::Formatter<'_>| text::write_hex(f, bytes)).to_string()
}

fn base64(bytes: &[u8]) -> String {
    Shown(|f: &mut fmt::Formatter<'_>| text::write_base64(f, bytes)).to_string()
}

struct Shown<F>(F);

impl<F: Fn(&mut fmt::Formatter<'_>) -> fmt::Result> fmt::Display for Shown<F> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0(f)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(form: Form, words: &str) -> Result<String, String> {
        let tokens: Vec<_> =
            words.split_whitespace().map(|word| DataToken { text: word.into(), quoted: false }).collect();
        let wire = parse(form, &tokens, &DnsName::absolute("gullrock.example").unwrap())?;
        assert!(fits(form, &wire), "{words}");
        Ok(shown(form, &wire).unwrap())
    }

    #[test]
    fn each_form_is_shown_as_it_is_read() {
        for (form, words) in [
            (Form::Eui48, "00-00-5e-00-53-2a"),
            (Form::Eui64, "00-00-5e-ef-10-00-00-2a"),
            (Form::Locator32, "192.0.2.1"),
            (Form::Locator64, "2001:0db8:0000:1000"),
            (Form::Nsap, "0x47000580"),
            (Form::Prefixes, "1:192.0.2.0/24 !1:192.0.2.32/28 2:2001:db8::/32 1:0.0.0.0/0"),
            (Form::Prefixes, ""),
            (Form::IpsecKey, "10 1 2 192.0.2.38 AQID"),
            (Form::IpsecKey, "10 0 2 . AQID"),
            (Form::IpsecKey, "10 3 2 quay.example. AQID"),
            (Form::Relay, "10 1 2 2001:db8::15"),
            (Form::Relay, "128 0 3 relay.example."),
            (Form::HostIdentity, "2 200100107B1A AwEA one.example. two.example."),
            (Form::HostIdentity, "2 200100107B1A AwEA"),
        ] {
            assert_eq!(read(form, words).as_deref(), Ok(words));
        }
        assert_eq!(read(Form::Locator64, "2001:DB8:0:1000").unwrap(), "2001:0db8:0000:1000");
        assert_eq!(read(Form::Nsap, "0x47.0005.80").unwrap(), "0x47000580");
        assert_eq!(read(Form::Relay, "0 0 3 relay").unwrap(), "0 0 3 relay.gullrock.example.");
    }

    #[test]
    fn what_has_not_its_form_is_named() {
        let wrong = |form: Form, words: &str| read(form, words).unwrap_err();
        assert!(wrong(Form::Eui48, "00-00-5e-00-53").contains("not 6 bytes"));
        assert!(wrong(Form::Eui48, "000-00-5e-00-53-2a").contains("not 6 bytes"));
        assert!(wrong(Form::Locator64, "1:2:3").contains("four groups"));
        assert!(wrong(Form::Nsap, "47").contains("begin with 0x"));
        assert!(wrong(Form::Prefixes, "1:192.0.2.0/33").contains("not a prefix"));
        assert!(wrong(Form::Prefixes, "3:192.0.2.0/3").contains("not a prefix"));
        assert!(wrong(Form::IpsecKey, "10 0 2 quay AQID").contains("written as `.`"));
        assert!(wrong(Form::IpsecKey, "10 1 2").contains("missing"));
        assert!(wrong(Form::IpsecKey, "10 0 0 .").contains("a key is missing"));
        assert!(wrong(Form::Relay, "10 2 1 192.0.2.1").contains("0 to 1"));
        assert!(wrong(Form::Relay, "10 0 9 x").contains("kind of gateway"));
        assert!(wrong(Form::Locator32, "192.0.2.1 more").contains("one value too many"));
        assert!(!fits(Form::Relay, &[10, 3]) && !fits(Form::Eui48, &[1]) && !fits(Form::Prefixes, &[0, 1, 24, 9, 1]));
    }
}

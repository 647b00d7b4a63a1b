//! An SPF policy that receivers cannot read.

use super::{Indexed, Rule};
use crate::finding::{Finding, RuleText, Severity};
use crate::zone::RecordData;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "spf-syntax",
    severity: Severity::Risk,
    what: "An SPF policy has a mechanism that does not exist, an address that is none, or more than ten look-ups.",
    why: "Receivers treat the whole policy as broken; mail from this domain may be refused.",
    cure: "Mend the term that is named. Good for most: `v=spf1 mx -all`, and `include:` of each service that sends.",
    source: "RFC 7208 sections 4.6 and 5",
};

/// Mechanisms, and whether each costs receivers a look-up.
const MECHANISMS: [(&str, bool); 8] = [
    ("all", false),
    ("include", true),
    ("a", true),
    ("mx", true),
    ("ptr", true),
    ("ip4", false),
    ("ip6", false),
    ("exists", true),
];

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for record in zone.records() {
        let RecordData::Txt(strings) = &record.data else { continue };
        if !strings.iter().flatten().take(6).eq(b"v=spf1") {
            continue;
        }
        let text = String::from_utf8_lossy(&strings.concat()).into_owned();
        let Some(terms) = text.strip_prefix("v=spf1").filter(|rest| rest.is_empty() || rest.starts_with(' ')) else {
            continue;
        };
        if let Err(what) = judge_terms(terms) {
            let name = record.owner.bare();
            findings.push(
                zone.on(record, TEXT.finding(&name, format!("the SPF policy of {name}: {what}"), "correct that term")),
            );
        }
    }
    findings
}

fn judge_terms(terms: &str) -> Result<(), String> {
    let mut look_ups = 0;
    for term in terms.split(' ').filter(|term| !term.is_empty()) {
        let lower = term.to_ascii_lowercase();
        let modifier = lower
            .split_once('=')
            .filter(|(name, _)| name.chars().all(|c| c.is_ascii_alphanumeric() || "-_.".contains(c)));
        if let Some((name, value)) = modifier {
            look_ups += u32::from(name == "redirect");
            if value.is_empty() {
                return Err(format!("`{term}` has no value"));
            }
            continue;
        }
        let bare = lower.strip_prefix(['+', '-', '~', '?']).unwrap_or(&lower);
        let (name, value) = match bare.find([':', '/']) {
            Some(at) => (&bare[..at], bare[at..].strip_prefix(':').unwrap_or(&bare[at..])),
            None => (bare, ""),
        };
        let known = MECHANISMS.iter().find(|(mechanism, _)| *mechanism == name);
        let (_, costs) = known.ok_or_else(|| format!("`{term}` is not a mechanism"))?;
        look_ups += u32::from(*costs);
        let sound = match name {
            "ip4" => is_network::<std::net::Ipv4Addr>(value, 32),
            "ip6" => is_network::<std::net::Ipv6Addr>(value, 128),
            "include" | "exists" => !value.is_empty(),
            _ => true,
        };
        if !sound {
            return Err(format!("`{term}` has a value that does not fit"));
        }
    }
    if look_ups > 10 { Err(format!("{look_ups} look-ups; ten are allowed")) } else { Ok(()) }
}

fn is_network<A: std::str::FromStr>(value: &str, most: u8) -> bool {
    let (address, length) = value.split_once('/').unwrap_or((value, "0"));
    address.parse::<A>().is_ok() && length.parse::<u8>().is_ok_and(|length| length <= most)
}

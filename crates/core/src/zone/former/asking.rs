//! The names and types that are asked for where a zone is not given away: those that nearly every domain has or may have,
//! and those that the answers lead to. The list is in docs/operation.md as well.

use std::collections::BTreeSet;

use super::super::{Record, RecordData, RecordType};
use super::is_sender_policy;
use crate::name::DnsName;

const SRV: RecordType = RecordType(33);
const NAPTR: RecordType = RecordType(35);
const HTTPS: RecordType = RecordType(65);

/// The types asked for at the domain itself.
const AT_APEX: [RecordType; 9] = [
    RecordType::A,
    RecordType::AAAA,
    RecordType::NS,
    RecordType::MX,
    RecordType::TXT,
    RecordType(257),
    SRV,
    NAPTR,
    HTTPS,
];

/// Hosts; an alias comes with any of the answers.
const HOSTS: [&str; 24] = [
    "www",
    "mail",
    "smtp",
    "imap",
    "pop",
    "pop3",
    "webmail",
    "mx",
    "mx1",
    "mx2",
    "ftp",
    "ns1",
    "ns2",
    "vpn",
    "remote",
    "shop",
    "blog",
    "cloud",
    "api",
    "app",
    "dev",
    "test",
    "autodiscover",
    "autoconfig",
];

/// Text records: mail policies, and keys that mail is signed with (RFC 6376) under the names that are most used.
const TEXTS: [&str; 16] = [
    "_dmarc",
    "_mta-sts",
    "_smtp._tls",
    "_domainkey",
    "default._domainkey",
    "dkim._domainkey",
    "dkim1._domainkey",
    "mail._domainkey",
    "email._domainkey",
    "key1._domainkey",
    "key2._domainkey",
    "k1._domainkey",
    "s1._domainkey",
    "s2._domainkey",
    "selector1._domainkey",
    "selector2._domainkey",
];

/// Services (RFC 2782, RFC 6186, RFC 6764, RFC 6120).
const SERVICES: [&str; 16] = [
    "_submission._tcp",
    "_submissions._tcp",
    "_imap._tcp",
    "_imaps._tcp",
    "_pop3._tcp",
    "_pop3s._tcp",
    "_autodiscover._tcp",
    "_caldav._tcp",
    "_caldavs._tcp",
    "_carddav._tcp",
    "_carddavs._tcp",
    "_sip._tcp",
    "_sips._tcp",
    "_sip._udp",
    "_xmpp-client._tcp",
    "_xmpp-server._tcp",
];

/// Names that the answers may lead to.
const MOST_FURTHER: usize = 60;

fn below(name: &str, origin: &DnsName) -> Option<DnsName> {
    DnsName::parse(name, origin).ok()
}

/// What is asked for first.
pub fn questions(origin: &DnsName) -> Vec<(DnsName, RecordType)> {
    let mut all: Vec<(DnsName, RecordType)> = AT_APEX.iter().map(|kind| (origin.clone(), *kind)).collect();
    let mut ask = |names: &[&str], kinds: &[RecordType]| {
        let names = names.iter().filter_map(|name| below(name, origin));
        all.extend(names.flat_map(|name| kinds.iter().map(move |kind| (name.clone(), *kind))));
    };
    ask(&HOSTS, &[RecordType::A, RecordType::AAAA]);
    ask(&["www", "mail"], &[RecordType::MX, RecordType::TXT, HTTPS]);
    ask(&["mta-sts"], &[RecordType::A, RecordType::AAAA]);
    ask(&TEXTS, &[RecordType::TXT]);
    ask(&SERVICES, &[SRV]);
    if let Some(absent) = absent_name(origin) {
        let kinds = [RecordType::A, RecordType::AAAA, RecordType::MX, RecordType::TXT];
        all.extend(kinds.map(|kind| (absent.clone(), kind)));
    }
    all
}

/// A name that nobody has: what is answered for it comes from a wildcard.
pub fn absent_name(origin: &DnsName) -> Option<DnsName> {
    below("no-such-name-8f3a51", origin)
}

/// What the answers lead to: names of the zone that mail, aliases, services and sender policies name.
pub fn further_questions(origin: &DnsName, seen: &[Record]) -> Vec<(DnsName, RecordType)> {
    let mut names: BTreeSet<DnsName> = BTreeSet::new();
    for record in seen {
        match &record.data {
            RecordData::Mx { exchange, .. } => names.extend([exchange.clone()]),
            RecordData::Cname(target) | RecordData::Ns(target) => names.extend([target.clone()]),
            RecordData::Fields { fields, .. } => names.extend(fields.iter().filter_map(|field| match field {
                super::super::Field::Name(name) => Some(name.clone()),
                _ => None,
            })),
            data if is_sender_policy(data) => names.extend(policy_names(data)),
            _ => {}
        }
    }
    names.retain(|name| name.is_within(origin) && name != origin);
    let kinds = [RecordType::A, RecordType::AAAA, RecordType::TXT];
    names.into_iter().take(MOST_FURTHER).flat_map(|name| kinds.map(|kind| (name.clone(), kind))).collect()
}

/// The names after `include:`, `a:`, `mx:`, `exists:` and `redirect=`; those with macros are not names yet.
fn policy_names(data: &RecordData) -> Vec<DnsName> {
    let RecordData::Txt(strings) = data else { return vec![] };
    let text = String::from_utf8_lossy(&strings.concat()).into_owned();
    let of_word = |word: &str| {
        let word = word.trim_start_matches(['+', '-', '~', '?']);
        let name = word.split_once([':', '=']).filter(|(what, _)| ["include", "a", "mx", "redirect"].contains(what))?.1;
        let name = name.split('/').next().unwrap_or(name);
        DnsName::absolute(name).ok().filter(|_| !name.contains('%'))
    };
    text.split_whitespace().filter_map(of_word).collect()
}

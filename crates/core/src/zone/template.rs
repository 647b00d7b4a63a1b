//! A new zone from a template with named placeholders, such as `{{domain}}`.
//!
//! A line whose placeholder has no value leaves nothing behind; a placeholder with several values gives one line for
//! each. The result is parsed before anyone sees it. Neighbours: `pattern`, which holds the values, and
//! `document`.

use std::net::IpAddr;

use jiff::civil::Date;

use super::{Document, Mail, Pattern, ZoneError};
use crate::name::{DnsName, Hostname};

/// The zone every new domain gets unless the harbor has a template of its own.
pub const BUILT_IN_TEMPLATE: &str = "\
; Zone of {{domain}}. Hand edits are welcome: only the lines concerned are ever changed.
$TTL 3600
@\tIN\tSOA\t{{primary}} {{hostmaster}} (
\t\t\t{{serial}}\t; serial
\t\t\t14400\t; refresh
\t\t\t1800\t; retry
\t\t\t2419200\t; expire
\t\t\t300 )\t; how long \"no such name\" may be cached
@\tIN\tNS\t{{nameserver}}
{{nameserver-address}}
@\tIN\tA\t{{address4}}
@\tIN\tAAAA\t{{address6}}
www\tIN\tA\t{{address4}}
www\tIN\tAAAA\t{{address6}}
@\tIN\tMX\t{{mx}}
@\tIN\tTXT\t{{spf}}
";

#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum TemplateError {
    #[error("the nameserver set is empty; a zone needs at least one nameserver")]
    NoNameserver,
    #[error("the nameserver {} lies inside the new zone, and the settings name no address for it", .0.bare())]
    NameserverAddress(DnsName),
    #[error("template line {line}: there is no placeholder `{name}`")]
    UnknownPlaceholder { line: usize, name: String },
    #[error("template line {line}: `{{{{` without `}}}}`")]
    OpenPlaceholder { line: usize },
    #[error("the template does not give a readable zone: {0}")]
    Unreadable(#[from] ZoneError),
}

/// Fills the template of a pattern for one domain.
pub(super) fn fill(pattern: &Pattern, domain: &Hostname, serial: u32) -> Result<Document, TemplateError> {
    let primary = pattern.nameservers.first().ok_or(TemplateError::NoNameserver)?;
    let own_nameservers = pattern.addresses_within(domain)?;
    let of_family = |v4: bool| {
        pattern.addresses_for_template().iter().filter(|a| a.is_ipv4() == v4).map(IpAddr::to_string).collect()
    };
    let value_of = |name: &str| -> Option<Vec<String>> {
        Some(match name {
            "domain" => vec![domain.to_string()],
            "primary" => vec![primary.to_string()],
            "hostmaster" => vec![pattern.hostmaster.to_string()],
            "serial" => vec![serial.to_string()],
            "nameserver" => pattern.nameservers.iter().map(DnsName::to_string).collect(),
            "nameserver-address" => own_nameservers
                .iter()
                .map(|(name, address)| {
                    let kind = if address.is_ipv4() { "A" } else { "AAAA" };
                    format!("{name}\tIN\t{kind}\t{address}")
                })
                .collect(),
            "address4" => of_family(true),
            "address6" => of_family(false),
            "mx" => mail_exchanges(pattern),
            "spf" => sender_policy(&pattern.mail).map(|policy| format!("\"{policy}\"")).into_iter().collect(),
            _ => return None,
        })
    };
    let mut text = String::with_capacity(pattern.text.len());
    for (index, line) in pattern.text.split_inclusive('\n').enumerate() {
        for filled in fill_line(line, index + 1, &value_of)? {
            text.push_str(&filled);
        }
    }
    Ok(Document::parse(text, &domain.dns_name())?)
}

fn mail_exchanges(pattern: &Pattern) -> Vec<String> {
    match pattern.mail.servers(&pattern.mail_servers) {
        None => vec![],
        Some([]) => vec!["0 .".into()],
        Some(servers) => servers.iter().enumerate().map(|(at, name)| format!("{} {name}", 10 * (at + 1))).collect(),
    }
}

/// Who may send for the domain, where that is known: mail kept elsewhere may be sent from anywhere.
fn sender_policy(mail: &Mail) -> Option<&'static str> {
    match mail {
        Mail::None => Some("v=spf1 -all"),
        Mail::Here => Some("v=spf1 a mx -all"),
        Mail::Unsaid | Mail::Elsewhere(_) => None,
    }
}

/// The first serial of a new zone, date style.
pub fn first_serial(today: Date) -> u32 {
    super::next_serial(1980010100, today)
}

fn fill_line(
    line: &str,
    number: usize,
    value_of: &dyn Fn(&str) -> Option<Vec<String>>,
) -> Result<Vec<String>, TemplateError> {
    let Some((before, rest)) = line.split_once("{{") else {
        return Ok(vec![line.to_string()]);
    };
    let Some((name, after)) = rest.split_once("}}") else {
        return Err(TemplateError::OpenPlaceholder { line: number });
    };
    let name = name.trim();
    let values =
        value_of(name).ok_or_else(|| TemplateError::UnknownPlaceholder { line: number, name: name.to_string() })?;
    let tails = fill_line(after, number, value_of)?;
    Ok(values.iter().flat_map(|value| tails.iter().map(move |tail| format!("{before}{value}{tail}"))).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::zone::TemplateName;

    fn fill(template: &str, addresses: &[&str], mail: Mail) -> Result<String, TemplateError> {
        let names = |all: &[&str]| all.iter().map(|name| DnsName::absolute(name).unwrap()).collect::<Vec<_>>();
        let pattern = Pattern {
            template: TemplateName::default(),
            text: template.into(),
            nameservers: names(&["ns1.saltmarsh.example", "ns2.saltmarsh.example"]),
            nameserver_addresses: Default::default(),
            hostmaster: DnsName::absolute("hostmaster.saltmarsh.example").unwrap(),
            addresses: addresses.iter().map(|text| text.parse().unwrap()).collect(),
            mail,
            mail_servers: names(&["mx1.saltmarsh.example", "mx2.saltmarsh.example"]),
            without_addresses: false,
        };
        let serial = first_serial(Date::constant(2026, 11, 23));
        let zone = pattern.zone(&Hostname::parse("crumbandtide.example").unwrap(), serial);
        zone.map(|zone| String::from_utf8(zone.source().to_vec()).unwrap())
    }

    #[test]
    fn empty_slots_leave_no_line_and_full_ones_one_each() {
        let text = fill(BUILT_IN_TEMPLATE, &["192.0.2.10"], Mail::Unsaid).unwrap();
        assert_eq!(text.matches("IN\tNS\t").count(), 2);
        assert_eq!(text.matches("IN\tA\t192.0.2.10").count(), 2);
        assert!(!text.contains("AAAA") && !text.contains("MX") && !text.contains("{{"), "{text}");
        assert!(text.contains("2026112301\t; serial"), "{text}");
        let text = fill(BUILT_IN_TEMPLATE, &["192.0.2.10", "2001:db8::10"], Mail::None).unwrap();
        assert!(text.contains("@\tIN\tMX\t0 .\n@\tIN\tTXT\t\"v=spf1 -all\"\n"), "{text}");
        assert!(text.contains("www\tIN\tAAAA\t2001:db8::10"), "{text}");
    }

    #[test]
    fn mail_here_or_elsewhere_gives_one_line_a_server() {
        let here = fill(BUILT_IN_TEMPLATE, &[], Mail::Here).unwrap();
        let lines = "@\tIN\tMX\t10 mx1.saltmarsh.example.\n@\tIN\tMX\t20 mx2.saltmarsh.example.\n";
        assert!(here.contains(&format!("{lines}@\tIN\tTXT\t\"v=spf1 a mx -all\"\n")), "{here}");
        let post = vec![DnsName::absolute("post.lanternchoir.example").unwrap()];
        let elsewhere = fill(BUILT_IN_TEMPLATE, &[], Mail::Elsewhere(post)).unwrap();
        assert!(elsewhere.contains("MX\t10 post.lanternchoir.example.\n") && !elsewhere.contains("TXT"), "{elsewhere}");
    }

    #[test]
    fn wrong_templates_are_told_by_line() {
        assert_eq!(
            fill("$TTL 60\n@ A {{adress4}}\n", &[], Mail::None).unwrap_err(),
            TemplateError::UnknownPlaceholder { line: 2, name: "adress4".into() }
        );
        assert_eq!(fill("{{domain", &[], Mail::None).unwrap_err(), TemplateError::OpenPlaceholder { line: 1 });
        assert!(matches!(fill("www 60 A 192.0.2.1\n", &[], Mail::None), Err(TemplateError::Unreadable(_))));
    }
}

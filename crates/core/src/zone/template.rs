//! A new zone from a template with named placeholders, such as `{{domain}}`.
//!
//! A line whose placeholder has no value leaves nothing behind; a placeholder with several values gives one line for
//! each. The result is parsed before anyone sees it. Neighbours: `document`, and `site::attach`, which asks for zones.

use std::net::IpAddr;

use jiff::civil::Date;

use super::{Document, ZoneError};
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

/// Where the mail of a domain goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Mail {
    /// The domain takes and sends no mail: null MX (RFC 7505) and `v=spf1 -all` (RFC 7208).
    None,
    /// Nothing is written: mail is arranged elsewhere, or later.
    Unsaid,
}

/// What the placeholders stand for.
#[derive(Debug, Clone)]
pub struct TemplateValues<'a> {
    pub domain: &'a Hostname,
    pub nameservers: &'a [DnsName],
    /// Addresses of nameservers that lie inside the domain.
    pub nameserver_addresses: &'a [(DnsName, IpAddr)],
    pub hostmaster: &'a DnsName,
    pub addresses: &'a [IpAddr],
    pub mail: Mail,
    pub today: Date,
}

#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum TemplateError {
    #[error("the template is not text")]
    NotText,
    #[error("the nameserver set is empty; a zone needs at least one nameserver")]
    NoNameserver,
    #[error("template line {line}: there is no placeholder `{name}`")]
    UnknownPlaceholder { line: usize, name: String },
    #[error("template line {line}: `{{{{` without `}}}}`")]
    OpenPlaceholder { line: usize },
    #[error("the template does not give a readable zone: {0}")]
    Unreadable(#[from] ZoneError),
}

/// Fills a template.
pub fn from_template(template: &str, values: &TemplateValues<'_>) -> Result<Document, TemplateError> {
    let primary = values.nameservers.first().ok_or(TemplateError::NoNameserver)?;
    let of_family = |v4: bool| values.addresses.iter().filter(|a| a.is_ipv4() == v4).map(IpAddr::to_string).collect();
    let when_no_mail = |text: &str| {
        if values.mail == Mail::None { vec![text.to_string()] } else { vec![] }
    };
    let value_of = |name: &str| -> Option<Vec<String>> {
        Some(match name {
            "domain" => vec![values.domain.to_string()],
            "primary" => vec![primary.to_string()],
            "hostmaster" => vec![values.hostmaster.to_string()],
            "serial" => vec![first_serial(values.today).to_string()],
            "nameserver" => values.nameservers.iter().map(DnsName::to_string).collect(),
            "nameserver-address" => values
                .nameserver_addresses
                .iter()
                .map(|(name, address)| {
                    let kind = if address.is_ipv4() { "A" } else { "AAAA" };
                    format!("{name}\tIN\t{kind}\t{address}")
                })
                .collect(),
            "address4" => of_family(true),
            "address6" => of_family(false),
            "mx" => when_no_mail("0 ."),
            "spf" => when_no_mail("\"v=spf1 -all\""),
            _ => return None,
        })
    };
    let mut text = String::with_capacity(template.len());
    for (index, line) in template.split_inclusive('\n').enumerate() {
        for filled in fill_line(line, index + 1, &value_of)? {
            text.push_str(&filled);
        }
    }
    Ok(Document::parse(text, &values.domain.dns_name())?)
}

/// The first serial of a new zone, date style.
fn first_serial(today: Date) -> u32 {
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

    fn fill(template: &str, addresses: &[&str], mail: Mail) -> Result<String, TemplateError> {
        let addresses: Vec<IpAddr> = addresses.iter().map(|text| text.parse().unwrap()).collect();
        let names = ["ns1.saltmarsh.example", "ns2.saltmarsh.example"].map(|n| DnsName::absolute(n).unwrap());
        let values = TemplateValues {
            domain: &Hostname::parse("crumbandtide.example").unwrap(),
            nameservers: &names,
            nameserver_addresses: &[],
            hostmaster: &DnsName::absolute("hostmaster.saltmarsh.example").unwrap(),
            addresses: &addresses,
            mail,
            today: Date::constant(2026, 11, 23),
        };
        from_template(template, &values).map(|zone| String::from_utf8(zone.source().to_vec()).unwrap())
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
    fn wrong_templates_are_told_by_line() {
        assert_eq!(
            fill("$TTL 60\n@ A {{adress4}}\n", &[], Mail::None).unwrap_err(),
            TemplateError::UnknownPlaceholder { line: 2, name: "adress4".into() }
        );
        assert_eq!(fill("{{domain", &[], Mail::None).unwrap_err(), TemplateError::OpenPlaceholder { line: 1 });
        assert!(matches!(fill("www 60 A 192.0.2.1\n", &[], Mail::None), Err(TemplateError::Unreadable(_))));
    }
}

//! Whether CAA records allow a CA to issue (RFC 8659), by this account and this kind of proof (RFC 8657): what the CA
//! checks, checked before it is asked.

use crate::acme::{Identifier, ProofKind};
use crate::zone::{Field, Record, RecordData, RecordType};

/// The type of the records.
pub const CAA: RecordType = RecordType(257);

/// The CA as the records may name it.
#[derive(Debug, Clone, Copy)]
pub struct CaNamed<'a> {
    /// The names that it goes by; empty where it does not say.
    pub identities: &'a [String],
    /// The URL of our account, once there is one.
    pub account: Option<&'a str>,
}

/// One property of a record set.
struct Property<'a> {
    critical: bool,
    tag: &'a str,
    value: String,
}

/// Judges the record set that is nearest above the name. The error says, for an administrator, what forbids it.
///
/// Without the names of the CA, only what forbids all CAs is reported.
pub fn allowed(records: &[Record], identifier: &Identifier, proof: ProofKind, ca: CaNamed<'_>) -> Result<(), String> {
    let Some(owner) = records.iter().find(|record| record.record_type() == CAA).map(|record| record.owner.bare())
    else {
        return Ok(());
    };
    let properties: Vec<Property<'_>> = records.iter().filter_map(|record| property(&record.data)).collect();
    let known = |tag: &str| ["issue", "issuewild", "iodef", "contactemail", "contactphone"].contains(&tag);
    if let Some(strange) = properties.iter().find(|one| one.critical && !known(&one.tag.to_ascii_lowercase())) {
        return Err(format!(
            "the CAA records of {owner} hold the critical property `{}`, which nobody knows",
            strange.tag
        ));
    }
    let of = |tag: &str| properties.iter().filter(|one| one.tag.eq_ignore_ascii_case(tag)).collect::<Vec<_>>();
    let (issue, wild) = (of("issue"), of("issuewild"));
    let judging = if identifier.wildcard && !wild.is_empty() { wild } else { issue };
    if judging.is_empty() {
        return Ok(());
    }
    let mut why = Vec::new();
    for property in &judging {
        let mut parts = property.value.split(';').map(str::trim);
        let issuer = parts.next().unwrap_or_default();
        if issuer.is_empty() {
            continue;
        }
        if ca.identities.is_empty() {
            return Ok(());
        }
        if !ca.identities.iter().any(|name| name.eq_ignore_ascii_case(issuer)) {
            continue;
        }
        match limits(parts, proof, ca.account) {
            Ok(()) => return Ok(()),
            Err(reason) => why.push(reason),
        }
    }
    if !why.is_empty() {
        return Err(format!("the CAA records of {owner} allow this CA, but {}", why.join("; and ")));
    }
    let named: Vec<&str> = judging
        .iter()
        .map(|one| one.value.split(';').next().unwrap_or_default().trim())
        .filter(|n| !n.is_empty())
        .collect();
    let named = if named.is_empty() { "nobody".to_string() } else { named.join(", ") };
    Err(format!(
        "the CAA records of {owner} allow {named} to issue{}",
        match ca.identities.first() {
            Some(name) => format!(", not {name}"),
            None => String::new(),
        }
    ))
}

/// The parameters of RFC 8657: which account, and which proofs.
fn limits<'a>(parts: impl Iterator<Item = &'a str>, proof: ProofKind, account: Option<&str>) -> Result<(), String> {
    for (name, value) in parts.filter_map(|part| part.split_once('=')) {
        let value = value.trim();
        match name.trim().to_ascii_lowercase().as_str() {
            "accounturi" if account.is_some_and(|account| account != value) => {
                return Err(format!("for the account {value} alone"));
            }
            "validationmethods" if !value.split(',').any(|method| method.trim() == proof.word()) => {
                return Err(format!("with the proof {value} alone, not {}", proof.word()));
            }
            _ => {}
        }
    }
    Ok(())
}

fn property(data: &RecordData) -> Option<Property<'_>> {
    let RecordData::Fields { record_type: CAA, fields } = data else { return None };
    let [Field::Number(flags), Field::Tag(tag), Field::Text(value)] = &fields[..] else { return None };
    Some(Property { critical: *flags & 128 != 0, tag, value: String::from_utf8_lossy(value).into_owned() })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::name::{DnsName, Host};
    use crate::zone::Document;

    fn records(lines: &[&str]) -> Vec<Record> {
        let lines: String = lines.iter().map(|line| format!("@ CAA {line}\n")).collect();
        let text = format!("$TTL 60\n@ SOA ns1 host 7 4h 30m 4w 5m\n@ NS ns1.example.\n{lines}");
        let document = Document::parse(text, &DnsName::absolute("gullrock.example").unwrap()).unwrap();
        document.records().filter(|record| record.record_type() == CAA).cloned().collect()
    }

    fn judged(lines: &[&str], wildcard: bool) -> Result<(), String> {
        let name = Host::parse("gullrock.example").unwrap();
        let identifier = Identifier { name, wildcard };
        let identities = ["ca.example".to_string()];
        let ca = CaNamed { identities: &identities, account: Some("https://ca.example/account/1") };
        allowed(&records(lines), &identifier, ProofKind::Http01, ca)
    }

    #[test]
    fn the_sets_of_rfc_8659_allow_whom_they_name() {
        for lines in
            [&[][..], &["0 issue \"ca.example\""], &["0 issue \"other.example\"", "0 issue \"CA.example; a=b\""]]
        {
            assert_eq!(judged(lines, false), Ok(()), "{lines:?}");
        }
        assert_eq!(judged(&["0 iodef \"mailto:a@gullrock.example\""], false), Ok(()));
        let refused = judged(&["0 issue \"other.example\""], false).unwrap_err();
        assert_eq!(refused, "the CAA records of gullrock.example allow other.example to issue, not ca.example");
        assert!(judged(&["0 issue \";\""], false).unwrap_err().contains("allow nobody to issue"));
        assert!(judged(&["128 tbs \"x\"", "0 issue \"ca.example\""], false).unwrap_err().contains("critical"));
    }

    #[test]
    fn wildcards_have_a_property_of_their_own() {
        let lines = ["0 issue \"ca.example\"", "0 issuewild \";\""];
        assert_eq!(judged(&lines, false), Ok(()));
        assert!(judged(&lines, true).is_err());
        assert_eq!(judged(&["0 issue \"ca.example\""], true), Ok(()));
        assert_eq!(judged(&["0 issuewild \"other.example\""], false), Ok(()));
    }

    #[test]
    fn accounts_and_proofs_may_be_limited() {
        let own = "0 issue \"ca.example; accounturi=https://ca.example/account/1\"";
        assert_eq!(judged(&[own], false), Ok(()));
        let other = judged(&["0 issue \"ca.example; accounturi=https://ca.example/account/2\""], false).unwrap_err();
        assert!(other.contains("for the account https://ca.example/account/2 alone"), "{other}");
        let dns = judged(&["0 issue \"ca.example; validationmethods=dns-01\""], false).unwrap_err();
        assert!(dns.contains("with the proof dns-01 alone, not http-01"), "{dns}");
        assert_eq!(judged(&["0 issue \"ca.example; validationmethods=dns-01,http-01\""], false), Ok(()));
    }

    #[test]
    fn a_ca_that_does_not_say_its_names_is_only_held_up_by_what_forbids_all() {
        let identifier = Identifier::from(Host::parse("gullrock.example").unwrap());
        let ca = CaNamed { identities: &[], account: None };
        let judged = |line: &str| allowed(&records(&[line]), &identifier, ProofKind::Http01, ca);
        assert_eq!(judged("0 issue \"other.example\""), Ok(()));
        assert!(judged("0 issue \";\"").is_err());
    }
}

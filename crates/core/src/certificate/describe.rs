//! All else that a certificate or a request says (RFC 5280, RFC 2986), in words: for people who want to see everything.
//!
//! What decisions rest on is in `read`; nothing is decided by what stands here.

use x509_parser::certification_request::X509CertificationRequest;
use x509_parser::extensions::{DistributionPointName, ExtendedKeyUsage, GeneralName, KeyUsage, ParsedExtension};
use x509_parser::oid_registry::OID_PKIX_ACCESS_DESCRIPTOR_OCSP;
use x509_parser::prelude::{FromDer, SubjectPublicKeyInfo, X509Certificate, X509Extension};

use super::read::{TLS_FEATURE, demands_staple, kind_of};
use crate::name::Host;

/// One thing that it says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Detail {
    pub name: &'static str,
    pub value: String,
}

/// Lists in extensions may be of any length.
const MOST_ENTRIES: usize = 20;

/// A serial number in hex. The octet in front that only keeps it positive in DER (X.690 section 8.3.2) is not part of it.
fn serial(raw: &[u8]) -> String {
    let number = match raw {
        [0, rest @ ..] if !rest.is_empty() => rest,
        raw => raw,
    };
    number.iter().take(64).map(|byte| format!("{byte:02x}")).collect::<Vec<_>>().join(":")
}

/// Everything about a certificate, DER, that its facts do not say.
pub fn describe_certificate(der: &[u8]) -> Vec<Detail> {
    let Ok((_, certificate)) = X509Certificate::from_der(der) else { return vec![] };
    let mut details = vec![
        detail("version", format!("{}", certificate.version().0.saturating_add(1))),
        detail("serial", serial(certificate.raw_serial())),
        detail("signed with", algorithm(&certificate.signature_algorithm.algorithm.to_id_string())),
    ];
    for extension in certificate.extensions().iter().take(50) {
        details.extend(of_extension(extension));
    }
    details
}

/// Everything about a request, DER, that its facts do not say.
pub fn describe_request(der: &[u8]) -> Vec<Detail> {
    let Ok((_, request)) = X509CertificationRequest::from_der(der) else { return vec![] };
    let mut details = vec![
        detail("signed with", algorithm(&request.signature_algorithm.algorithm.to_id_string())),
        detail("proves", "whoever made it held the key: its signature is that of the key".into()),
    ];
    let asked = request.requested_extensions().into_iter().flatten().take(50);
    details.extend(asked.filter_map(|extension| of_parsed(extension, false)));
    let attributes = request.certification_request_info.attributes().iter().take(20);
    // The extensions themselves are one of them (RFC 2985 section 5.4.2).
    let others = attributes.map(|attribute| attribute.oid.to_id_string()).filter(|oid| oid != "1.2.840.113549.1.9.14");
    details.extend(others.map(|oid| match oid.as_str() {
        "1.2.840.113549.1.9.7" => {
            detail("challenge", "it holds a challenge password, readable for whoever has it".into())
        }
        _ => detail("attribute", oid),
    }));
    details
}

/// The kind and size of a key by its public half (DER), as `RSA 2048`.
pub fn key_words(public_key: &[u8]) -> Option<String> {
    let (_, key) = SubjectPublicKeyInfo::from_der(public_key).ok()?;
    Some(kind_of(&key).0)
}

fn detail(name: &'static str, value: String) -> Detail {
    Detail { name, value }
}

fn of_extension(extension: &X509Extension<'_>) -> Option<Detail> {
    let oid = extension.oid.to_id_string();
    let critical = if extension.critical { " (critical)" } else { "" };
    match extension.parsed_extension() {
        ParsedExtension::UnsupportedExtension { .. } if demands_staple(extension) => {
            Some(detail("stapling", "demanded: a handshake without it fails".into()))
        }
        ParsedExtension::UnsupportedExtension { .. } if oid == TLS_FEATURE => {
            Some(detail("tls features", hex(extension.value)))
        }
        ParsedExtension::UnsupportedExtension { .. } | ParsedExtension::ParseError { .. } => {
            Some(detail("extension", format!("{oid}{critical}, {} bytes", extension.value.len())))
        }
        parsed => of_parsed(parsed, extension.critical).or_else(|| match parsed {
            // Told among its names.
            ParsedExtension::SubjectAlternativeName(_) => None,
            _ => Some(detail("extension", format!("{oid}{critical}"))),
        }),
    }
}

fn of_parsed(parsed: &ParsedExtension<'_>, critical: bool) -> Option<Detail> {
    Some(match parsed {
        ParsedExtension::BasicConstraints(constraints) => {
            let limit = constraints.path_len_constraint.map(|most| format!(", with at most {most} issuers below it"));
            let words = if constraints.ca { "may sign certificates" } else { "may not sign certificates" };
            let ignorable = if critical || !constraints.ca { "" } else { " (not critical, as it should be)" };
            detail("authority", format!("{words}{}{ignorable}", limit.unwrap_or_default()))
        }
        ParsedExtension::KeyUsage(usage) => detail("key usage", usages(*usage)),
        ParsedExtension::ExtendedKeyUsage(purposes) => detail("purposes", purposes_of(purposes)),
        ParsedExtension::SubjectKeyIdentifier(id) => detail("key id", hex(id.0)),
        ParsedExtension::AuthorityKeyIdentifier(id) => {
            detail("issuer's key", id.key_identifier.as_ref().map_or("named by serial".into(), |id| hex(id.0)))
        }
        ParsedExtension::CertificatePolicies(policies) => {
            detail("policies", list(policies.iter().map(|policy| policy_words(&policy.policy_id.to_id_string()))))
        }
        ParsedExtension::CRLDistributionPoints(points) => {
            let names = points.points.iter().filter_map(|point| point.distribution_point.as_ref());
            let full = names.filter_map(|name| match name {
                DistributionPointName::FullName(names) => Some(names.iter()),
                DistributionPointName::NameRelativeToCRLIssuer(_) => None,
            });
            detail("revoked at", list(full.flatten().map(general)))
        }
        ParsedExtension::AuthorityInfoAccess(access) => detail(
            "issuer told",
            list(access.accessdescs.iter().map(|one| {
                let asked = if one.access_method == OID_PKIX_ACCESS_DESCRIPTOR_OCSP { "status" } else { "certificate" };
                format!("{asked} at {}", general(&one.access_location))
            })),
        ),
        ParsedExtension::NameConstraints(limits) => {
            let allowed =
                limits.permitted_subtrees.iter().flatten().map(|tree| format!("only {}", general(&tree.base)));
            let excluded = limits.excluded_subtrees.iter().flatten().map(|tree| format!("not {}", general(&tree.base)));
            detail("limited to", list(allowed.chain(excluded)))
        }
        ParsedExtension::SCT(stamps) => {
            let logs = if stamps.len() == 1 { "log" } else { "logs" };
            detail("logged", format!("{} certificate transparency {logs} (RFC 6962)", stamps.len()))
        }
        _ => return None,
    })
}

fn list(entries: impl Iterator<Item = String>) -> String {
    let mut all: Vec<String> = entries.take(MOST_ENTRIES + 1).collect();
    if all.len() > MOST_ENTRIES {
        all[MOST_ENTRIES] = "and more".into();
    }
    if all.is_empty() { "nothing".into() } else { all.join(", ") }
}

fn usages(usage: KeyUsage) -> String {
    let all = [
        (usage.digital_signature(), "digital signature"),
        (usage.non_repudiation(), "non-repudiation"),
        (usage.key_encipherment(), "key encipherment"),
        (usage.data_encipherment(), "data encipherment"),
        (usage.key_agreement(), "key agreement"),
        (usage.key_cert_sign(), "signing certificates"),
        (usage.crl_sign(), "signing revocation lists"),
        (usage.encipher_only(), "enciphering alone"),
        (usage.decipher_only(), "deciphering alone"),
    ];
    list(all.into_iter().filter(|(set, _)| *set).map(|(_, words)| words.to_string()))
}

fn purposes_of(purposes: &ExtendedKeyUsage<'_>) -> String {
    let known = [
        (purposes.any, "any"),
        (purposes.server_auth, "servers"),
        (purposes.client_auth, "clients"),
        (purposes.code_signing, "code"),
        (purposes.email_protection, "e-mail"),
        (purposes.time_stamping, "time stamps"),
        (purposes.ocsp_signing, "OCSP answers"),
    ];
    let known = known.into_iter().filter(|(set, _)| *set).map(|(_, words)| words.to_string());
    list(known.chain(purposes.other.iter().map(|oid| oid.to_id_string())))
}

/// The policies that the CA/Browser Forum has numbered.
fn policy_words(oid: &str) -> String {
    let words = match oid {
        "2.23.140.1.2.1" => "control of the name was validated",
        "2.23.140.1.2.2" => "the organization was validated",
        "2.23.140.1.2.3" => "the person was validated",
        "2.23.140.1.1" => "extended validation",
        other => return other.to_string(),
    };
    format!("{words} ({oid})")
}

fn general(name: &GeneralName<'_>) -> String {
    // Whatever a stranger has written there comes to a terminal.
    let plain = |text: &str| text.chars().take(200).flat_map(char::escape_debug).collect::<String>();
    match name {
        GeneralName::DNSName(text) | GeneralName::URI(text) | GeneralName::RFC822Name(text) => plain(text),
        GeneralName::DirectoryName(name) => plain(&name.to_string()),
        GeneralName::IPAddress(bytes) => {
            super::read::address_of(bytes).map_or_else(|| hex(bytes), |address| Host::from(address).to_string())
        }
        _ => "a name of another kind".into(),
    }
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().take(64).map(|byte| format!("{byte:02x}")).collect()
}

/// The signature algorithms that certificates are signed with (RFC 4055, RFC 5758, RFC 8410).
fn algorithm(oid: &str) -> String {
    let words = match oid {
        "1.2.840.113549.1.1.4" => "RSA with MD5, which anybody can forge",
        "1.2.840.113549.1.1.5" => "RSA with SHA-1, which can be forged",
        "1.2.840.113549.1.1.11" => "RSA with SHA-256",
        "1.2.840.113549.1.1.12" => "RSA with SHA-384",
        "1.2.840.113549.1.1.13" => "RSA with SHA-512",
        "1.2.840.113549.1.1.10" => "RSASSA-PSS",
        "1.2.840.10045.4.1" => "ECDSA with SHA-1, which can be forged",
        "1.2.840.10045.4.3.2" => "ECDSA with SHA-256",
        "1.2.840.10045.4.3.3" => "ECDSA with SHA-384",
        "1.2.840.10045.4.3.4" => "ECDSA with SHA-512",
        "1.3.101.112" => "Ed25519",
        other => return other.to_string(),
    };
    words.to_string()
}

#[cfg(test)]
mod tests {
    use rcgen::{
        BasicConstraints, CertificateParams, CrlDistributionPoint, CustomExtension, ExtendedKeyUsagePurpose,
        GeneralSubtree, IsCa, KeyPair, KeyUsagePurpose, NameConstraints,
    };

    use super::*;

    fn told(details: &[Detail]) -> Vec<String> {
        details.iter().map(|detail| format!("{}: {}", detail.name, detail.value)).collect()
    }

    #[test]
    fn a_serial_is_told_as_a_number() {
        assert_eq!(serial(&[0, 0xb3, 0xbc]), "b3:bc");
        assert_eq!((serial(&[0]).as_str(), serial(&[7, 0]).as_str()), ("00", "07:00"));
    }

    #[test]
    fn every_extension_is_told() {
        let mut params = CertificateParams::new(vec!["gullrock.example".into()]).unwrap();
        params.serial_number = Some(vec![7, 0x1c].into());
        params.is_ca = IsCa::Ca(BasicConstraints::Constrained(1));
        params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
        params.extended_key_usages =
            vec![ExtendedKeyUsagePurpose::ServerAuth, ExtendedKeyUsagePurpose::Other(vec![1, 2, 3])];
        params.crl_distribution_points =
            vec![CrlDistributionPoint { uris: vec!["http://ca.example/\u{1b}[1m".into()] }];
        params.name_constraints = Some(NameConstraints {
            permitted_subtrees: vec![GeneralSubtree::DnsName("saltmarsh.example".into())],
            excluded_subtrees: vec![],
        });
        params.custom_extensions = vec![
            CustomExtension::from_oid_content(&[1, 3, 6, 1, 5, 5, 7, 1, 24], vec![0x30, 3, 2, 1, 5]),
            CustomExtension::from_oid_content(&[1, 3, 9, 9], vec![1, 2, 3]),
        ];
        let made = params.self_signed(&KeyPair::generate().unwrap()).unwrap();
        let told = told(&describe_certificate(made.der()));
        for line in [
            "version: 3",
            "serial: 07:1c",
            "signed with: ECDSA with SHA-256",
            "authority: may sign certificates, with at most 1 issuers below it",
            "key usage: signing certificates, signing revocation lists",
            "purposes: servers, 1.2.3",
            "revoked at: http://ca.example/\\u{1b}[1m",
            "limited to: only saltmarsh.example",
            "stapling: demanded: a handshake without it fails",
            "extension: 1.3.9.9, 3 bytes",
        ] {
            assert!(told.iter().any(|one| one == line), "{line}: {told:#?}");
        }
        assert!(told.iter().any(|one| one.starts_with("key id: ") && one.len() > 40));
    }

    #[test]
    fn a_request_tells_what_it_asks_for_and_broken_bytes_tell_nothing() {
        let mut params = CertificateParams::new(vec!["gullrock.example".into()]).unwrap();
        params.key_usages = vec![KeyUsagePurpose::DigitalSignature];
        let key = KeyPair::generate_for(&rcgen::PKCS_ECDSA_P384_SHA384).unwrap();
        let request = params.serialize_request(&key).unwrap();
        let told = told(&describe_request(request.der()));
        assert_eq!(told[0], "signed with: ECDSA with SHA-384");
        assert!(told.contains(&"key usage: digital signature".to_string()), "{told:?}");
        let (_, read) = X509CertificationRequest::from_der(request.der()).unwrap();
        assert_eq!(key_words(read.certification_request_info.subject_pki.raw).unwrap(), "EC P-384");
        assert_eq!(
            (describe_request(b"x"), describe_certificate(&[0x30, 3, 1]), key_words(b"")),
            (vec![], vec![], None)
        );
    }
}

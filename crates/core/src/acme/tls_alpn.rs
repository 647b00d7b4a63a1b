//! Proofs over TLS (RFC 8737): what the CA asks for in the handshake, and what the certificate that it is shown must
//! hold. Showing one is the driver's.

use sha2::{Digest, Sha256};
use x509_parser::prelude::{FromDer, GeneralName, X509Certificate};

use crate::certificate::address_of;
use crate::name::Host;

/// The protocol that the CA offers, alone (section 6.2).
pub const PROTOCOL: &[u8] = b"acme-tls/1";
/// id-pe-acmeIdentifier (section 6.1), in dots.
const EXTENSION: &str = "1.3.6.1.5.5.7.1.31";

/// The digest that the certificate must hold: of the key authorization (section 3).
pub fn proof_digest(content: &str) -> [u8; 32] {
    let mut bytes = [0; 32];
    bytes.copy_from_slice(&Sha256::digest(content.as_bytes()));
    bytes
}

/// The name that the CA sends along: an address as its name in the reverse tree (RFC 8738 section 6).
pub fn asked_name(name: &Host) -> String {
    use std::net::IpAddr;
    match name.address() {
        None => name.to_string(),
        Some(IpAddr::V4(address)) => {
            let [a, b, c, d] = address.octets();
            format!("{d}.{c}.{b}.{a}.in-addr.arpa")
        }
        Some(IpAddr::V6(address)) => {
            let digits = address.octets().into_iter().rev().flat_map(|byte| [byte & 15, byte >> 4]);
            digits.map(|digit| format!("{digit:x}.")).collect::<String>() + "ip6.arpa"
        }
    }
}

/// Whether a certificate, DER, proves control of the name: named alone, with the digest in a critical extension.
pub fn proves(der: &[u8], name: &Host, content: &str) -> Result<(), String> {
    let unreadable = || "a certificate that cannot be read is shown".to_string();
    let (_, certificate) = X509Certificate::from_der(der).map_err(|_| unreadable())?;
    let names = certificate.subject_alternative_name().map_err(|_| unreadable())?;
    let names = names.map(|extension| extension.value.general_names.as_slice()).unwrap_or_default();
    let is_it = match names {
        [GeneralName::DNSName(text)] => text.eq_ignore_ascii_case(name.as_str()),
        [GeneralName::IPAddress(bytes)] => address_of(bytes) == name.address(),
        _ => false,
    };
    if !is_it {
        return Err(format!("a certificate is shown that is not for {name} alone"));
    }
    let Some(extension) = certificate.extensions().iter().find(|one| one.oid.to_id_string() == EXTENSION) else {
        return Err("a certificate without proof is shown".into());
    };
    // An OCTET STRING of 32 octets inside.
    match extension.value {
        [4, 32, digest @ ..] if digest == proof_digest(content) && extension.critical => Ok(()),
        _ => Err("the proof in the certificate is another one".into()),
    }
}

#[cfg(test)]
mod tests {
    use rcgen::{CertificateParams, CustomExtension, KeyPair};

    use super::*;

    fn host(text: &str) -> Host {
        Host::parse(text).unwrap()
    }

    #[test]
    fn addresses_are_asked_for_by_their_reverse_names() {
        assert_eq!(asked_name(&host("gullrock.example")), "gullrock.example");
        assert_eq!(asked_name(&host("192.0.2.10")), "10.2.0.192.in-addr.arpa");
        let v6 = "1.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.8.b.d.0.1.0.0.2.ip6.arpa";
        assert_eq!(asked_name(&host("[2001:db8::1]")), v6);
    }

    #[test]
    fn only_the_one_name_with_the_digest_proves_it() {
        let der = |names: &[&str], content: Option<&str>, critical: bool| {
            let names: Vec<String> = names.iter().map(ToString::to_string).collect();
            let mut params = CertificateParams::new(names).unwrap();
            params.custom_extensions = content
                .map(|content| {
                    let mut extension = CustomExtension::new_acme_identifier(&proof_digest(content));
                    extension.set_criticality(critical);
                    extension
                })
                .into_iter()
                .collect();
            params.self_signed(&KeyPair::generate().unwrap()).unwrap().der().to_vec()
        };
        let content = "token.thumbprint";
        assert_eq!(
            proves(&der(&["gullrock.example"], Some(content), true), &host("gullrock.example"), content),
            Ok(())
        );
        assert_eq!(proves(&der(&["192.0.2.10"], Some(content), true), &host("192.0.2.10"), content), Ok(()));
        for (der, words) in [
            (der(&["lanternchoir.example"], Some(content), true), "not for gullrock.example alone"),
            (der(&["gullrock.example", "www.gullrock.example"], Some(content), true), "alone"),
            (der(&["gullrock.example"], None, true), "without proof"),
            (der(&["gullrock.example"], Some("another.thumbprint"), true), "another one"),
            (der(&["gullrock.example"], Some(content), false), "another one"),
            (b"no certificate".to_vec(), "cannot be read"),
        ] {
            let refused = proves(&der, &host("gullrock.example"), content).unwrap_err();
            assert!(refused.contains(words), "{refused}");
        }
    }
}

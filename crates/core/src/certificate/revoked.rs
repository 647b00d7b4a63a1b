//! Whether a CA has revoked a certificate, as its list of revoked ones says (CRL, RFC 5280 section 5). A list counts only where
//! its issuer has signed it, it is of today, and it speaks of such certificates. Fetching it is for `brightharbor-io`
//! (`probe/revocation.rs`); answers about one certificate are in `ocsp.rs`.

use jiff::Timestamp;
use x509_parser::extensions::{DistributionPointName, GeneralName, ParsedExtension};
use x509_parser::prelude::{CertificateRevocationList, FromDer, X509Certificate};

use super::CertificateFacts;
use crate::finding::spaced;

/// What is known of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RevocationStatus {
    /// Its CA says that it is not revoked.
    Good,
    Revoked {
        since: Timestamp,
        /// The CA's word for the reason, where it gives one.
        reason: Option<String>,
    },
    /// Its CA was asked, and nothing that counts came back: why.
    Unknown(String),
    /// Nobody was asked: why.
    NotAsked(String),
}

impl RevocationStatus {
    /// For programs.
    pub fn word(&self) -> &'static str {
        match self {
            RevocationStatus::Good => "good",
            RevocationStatus::Revoked { .. } => "revoked",
            RevocationStatus::Unknown(_) => "unknown",
            RevocationStatus::NotAsked(_) => "not-asked",
        }
    }

    pub fn words(&self) -> String {
        match self {
            RevocationStatus::Good => "not revoked, according to its CA".into(),
            RevocationStatus::Revoked { since, reason } => {
                let reason = reason.as_ref().map(|reason| format!(" ({reason})")).unwrap_or_default();
                format!("revoked since {since}{reason}")
            }
            RevocationStatus::Unknown(why) => format!("unknown: {why}"),
            RevocationStatus::NotAsked(why) => format!("not checked: {why}"),
        }
    }
}

/// A little before its time is no lie: clocks differ.
pub(super) const CLOCKS_DIFFER: i64 = 300;

/// What a list from `address`, DER, says of a certificate of this issuer.
pub fn judge_list(
    list: &[u8],
    address: &str,
    leaf: &CertificateFacts,
    issuer: &CertificateFacts,
    now: Timestamp,
) -> RevocationStatus {
    read_list(list, address, leaf, issuer, now).unwrap_or_else(RevocationStatus::Unknown)
}

fn read_list(
    list: &[u8],
    address: &str,
    leaf: &CertificateFacts,
    issuer: &CertificateFacts,
    now: Timestamp,
) -> Result<RevocationStatus, String> {
    let unreadable = |_| "the CRL cannot be read".to_string();
    let (_, list) = CertificateRevocationList::from_der(list).map_err(|_| unreadable(()))?;
    let (_, leaf) = X509Certificate::from_der(&leaf.der).map_err(|_| unreadable(()))?;
    let (_, issuer) = X509Certificate::from_der(&issuer.der).map_err(|_| unreadable(()))?;
    if list.issuer().as_raw() != leaf.issuer().as_raw() || issuer.subject().as_raw() != leaf.issuer().as_raw() {
        return Err("the CRL is from another issuer".into());
    }
    list.verify_signature(issuer.public_key()).map_err(|_| "the CRL is not signed by the issuer".to_string())?;
    if list.last_update().timestamp() > now.as_second() + CLOCKS_DIFFER {
        return Err("the CRL is from the future".into());
    }
    match list.next_update().map(|next| next.timestamp()) {
        None => return Err("the CRL does not say how long it is valid".into()),
        Some(next) if next < now.as_second() => return Err("the CRL is out of date".into()),
        Some(_) => {}
    }
    speaks_of(&list, address)?;
    let entry = list.iter_revoked_certificates().find(|one| one.raw_serial() == leaf.raw_serial());
    Ok(match entry {
        None => RevocationStatus::Good,
        Some(entry) => RevocationStatus::Revoked {
            since: Timestamp::from_second(entry.revocation_date.timestamp()).unwrap_or(now),
            reason: entry.reason_code().map(|(_, code)| reason_words(&code.to_string())),
        },
    })
}

/// The name of a reason (`KeyCompromise`) in words: `key compromise`.
pub(super) fn reason_words(name: &str) -> String {
    match spaced(name, ' ').as_str() {
        "cacompromise" | "ca compromise" => "CA compromise".into(),
        words => words.into(),
    }
}

/// A list may be a part of what a CA has revoked: it has to be the part that the certificate names (section 5.2.5).
fn speaks_of(list: &CertificateRevocationList<'_>, address: &str) -> Result<(), String> {
    for extension in list.extensions() {
        match extension.parsed_extension() {
            ParsedExtension::IssuingDistributionPoint(point) => {
                if point.only_contains_ca_certs || point.only_contains_attribute_certs || point.indirect_crl {
                    return Err("the CRL covers other certificates".into());
                }
                if point.only_some_reasons.is_some() {
                    return Err("the CRL covers only some reasons".into());
                }
                if let Some(DistributionPointName::FullName(names)) = &point.distribution_point
                    && !names.iter().any(|name| matches!(name, GeneralName::URI(uri) if *uri == address))
                {
                    return Err("the CRL covers another part".into());
                }
            }
            ParsedExtension::CRLNumber(_) | ParsedExtension::AuthorityKeyIdentifier(_) => {}
            // What must be understood and is not makes the list worthless, such as that of a mere difference.
            _ if extension.critical => return Err("the CRL has a critical extension that is not understood".into()),
            _ => {}
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use rcgen::{
        BasicConstraints, CertificateParams, CertificateRevocationListParams, CrlDistributionPoint,
        CrlIssuingDistributionPoint, CrlScope, IsCa, Issuer, KeyIdMethod, KeyPair, KeyUsagePurpose, RevocationReason,
        RevokedCertParams, SerialNumber, date_time_ymd,
    };

    use super::*;
    use crate::certificate::read_chain;

    const AT: &str = "http://ca.saltmarsh.example/7.crl";

    struct Harbor {
        leaf: CertificateFacts,
        issuer: CertificateFacts,
        by: Issuer<'static, KeyPair>,
    }

    fn made(name: &str) -> Harbor {
        let key = KeyPair::generate().unwrap();
        let mut params = CertificateParams::new(vec![]).unwrap();
        params.distinguished_name.push(rcgen::DnType::CommonName, name);
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
        let issuer = read_chain(params.self_signed(&key).unwrap().pem().as_bytes()).unwrap().remove(0);
        let by = Issuer::new(params, key);
        let mut params = CertificateParams::new(vec!["gullrock.example".into()]).unwrap();
        params.serial_number = Some(SerialNumber::from(vec![0x01, 0xfe, 0x07]));
        params.crl_distribution_points = vec![CrlDistributionPoint { uris: vec![AT.into()] }];
        let leaf = params.signed_by(&KeyPair::generate().unwrap(), &by).unwrap();
        Harbor { leaf: read_chain(leaf.pem().as_bytes()).unwrap().remove(0), issuer, by }
    }

    fn list(
        by: &Issuer<'_, KeyPair>,
        serials: &[&[u8]],
        change: impl FnOnce(&mut CertificateRevocationListParams),
    ) -> Vec<u8> {
        let revoked = |serial: &&[u8]| RevokedCertParams {
            serial_number: SerialNumber::from(serial.to_vec()),
            revocation_time: date_time_ymd(2026, 11, 20),
            reason_code: Some(RevocationReason::KeyCompromise),
            invalidity_date: None,
        };
        let mut params = CertificateRevocationListParams {
            this_update: date_time_ymd(2026, 11, 27),
            next_update: date_time_ymd(2026, 12, 4),
            crl_number: SerialNumber::from(7_u64),
            issuing_distribution_point: None,
            revoked_certs: serials.iter().map(revoked).collect(),
            key_identifier_method: KeyIdMethod::Sha256,
        };
        change(&mut params);
        params.signed_by(by).unwrap().der().to_vec()
    }

    fn judged(harbor: &Harbor, list: &[u8]) -> RevocationStatus {
        let now = "2026-11-28T12:00:00Z".parse().unwrap();
        judge_list(list, AT, &harbor.leaf, &harbor.issuer, now)
    }

    #[test]
    fn a_list_of_the_issuer_tells_which_of_its_certificates_are_revoked() {
        let harbor = made("Tide issuer");
        assert_eq!(harbor.leaf.lists_at, [AT]);
        assert_eq!(judged(&harbor, &list(&harbor.by, &[&[9, 9]], |_| ())), RevocationStatus::Good);
        let revoked = judged(&harbor, &list(&harbor.by, &[&[9, 9], &[0x01, 0xfe, 0x07]], |_| ()));
        let RevocationStatus::Revoked { since, reason } = &revoked else { panic!("{revoked:?}") };
        assert_eq!((since.to_string(), reason.is_some()), ("2026-11-20T00:00:00Z".into(), true));
        assert_eq!(revoked.words(), "revoked since 2026-11-20T00:00:00Z (key compromise)");
    }

    #[test]
    fn reasons_are_told_in_words() {
        let told = ["Unspecified", "CACompromise", "CaCompromise", "CessationOfOperation", "AffiliationChanged"]
            .map(reason_words);
        let words = ["unspecified", "CA compromise", "CA compromise", "cessation of operation", "affiliation changed"];
        assert_eq!(told, words);
    }

    #[test]
    fn what_does_not_count_is_no_answer() {
        let (harbor, other) = (made("Tide issuer"), made("Tide issuer"));
        let why = |list: &[u8]| match judged(&harbor, list) {
            RevocationStatus::Unknown(why) => why,
            known => panic!("{known:?}"),
        };
        assert!(why(b"no list").contains("cannot be read"));
        assert!(why(&list(&other.by, &[], |_| ())).contains("not signed by"), "the same name, another key");
        assert!(why(&list(&made("Other issuer").by, &[], |_| ())).contains("another issuer"));
        let of = |change: fn(&mut CertificateRevocationListParams)| why(&list(&harbor.by, &[], change));
        assert!(of(|params| params.next_update = date_time_ymd(2026, 11, 28)).contains("out of date"));
        assert!(of(|params| params.this_update = date_time_ymd(2026, 11, 29)).contains("future"));
        let part = |uri: &str, scope| {
            let point = CrlDistributionPoint { uris: vec![uri.into()] };
            Some(CrlIssuingDistributionPoint { distribution_point: point, scope })
        };
        let in_part = |uri: &str, scope| {
            let point = part(uri, scope);
            judged(&harbor, &list(&harbor.by, &[], |params| params.issuing_distribution_point = point))
        };
        assert_eq!(in_part(AT, Some(CrlScope::UserCertsOnly)), RevocationStatus::Good);
        let unknown = |status: RevocationStatus| matches!(status, RevocationStatus::Unknown(_));
        assert!(unknown(in_part("http://ca.saltmarsh.example/8.crl", None)), "another part of the whole");
        assert!(unknown(in_part(AT, Some(CrlScope::CaCertsOnly))));
    }
}

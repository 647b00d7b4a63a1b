//! What a CA answers when it is asked about one certificate (OCSP, RFC 6960), be it asked by us or stapled to a handshake. An
//! answer counts only where the issuer signed it, or a responder that the issuer names, it is of today, and it is about
//! this certificate. Asking is for `brightharbor-io` (`probe/revocation.rs`); lists are in `revoked.rs`.

use jiff::Timestamp;
use sha1::Digest;
use x509_cert::der::asn1::{Null, ObjectIdentifier, OctetString};
use x509_cert::der::{Any, Decode, Encode};
use x509_cert::serial_number::SerialNumber;
use x509_cert::spki::AlgorithmIdentifierOwned;
use x509_ocsp::{
    BasicOcspResponse, CertId, CertStatus, OcspGeneralizedTime, OcspRequest, OcspResponse, OcspResponseStatus, Request,
    SingleResponse, TbsRequest, Version,
};
use x509_parser::asn1_rs::{Any as Element, BitString};
use x509_parser::prelude::{AlgorithmIdentifier, FromDer, SubjectPublicKeyInfo, X509Certificate};
use x509_parser::verify::verify_signature;

use super::CertificateFacts;
use super::revoked::{CLOCKS_DIFFER, RevocationStatus, reason_words};

const SHA1: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.14.3.2.26");
const SHA256: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.2.1");
const BASIC: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.48.1.1");
/// One that does not say how long it is valid was made for who asked just now (RFC 6960 section 4.2.2.1).
const UNSAID_VALIDITY: i64 = 24 * 3600;
/// Certificates of responders that an answer brings along; one is usual.
const MOST_RESPONDERS: usize = 8;

/// The question about a certificate of this issuer, DER (section 4.1.1). It names the issuer by SHA-1, the one hash that all
/// responders know (RFC 5019 section 2.1.1); nothing hangs on its strength here.
pub fn ocsp_question(leaf: &CertificateFacts, issuer: &CertificateFacts) -> Result<Vec<u8>, String> {
    let named = Named::read(leaf, issuer)?;
    let wrong = |_: x509_cert::der::Error| "the question about it cannot be written".to_string();
    let (name, key) = named.hashes(&SHA1).unwrap_or_default();
    let req_cert = CertId {
        hash_algorithm: AlgorithmIdentifierOwned { oid: SHA1, parameters: Some(Any::from(Null)) },
        issuer_name_hash: OctetString::new(name).map_err(wrong)?,
        issuer_key_hash: OctetString::new(key).map_err(wrong)?,
        serial_number: SerialNumber::new(named.leaf.raw_serial()).map_err(wrong)?,
    };
    let tbs_request = TbsRequest {
        version: Version::V1,
        requestor_name: None,
        request_list: vec![Request { req_cert, single_request_extensions: None }],
        request_extensions: None,
    };
    OcspRequest { tbs_request, optional_signature: None }.to_der().map_err(wrong)
}

/// What an answer, DER, says of a certificate of this issuer.
pub fn judge_ocsp(
    answer: &[u8],
    leaf: &CertificateFacts,
    issuer: &CertificateFacts,
    now: Timestamp,
) -> RevocationStatus {
    let told = about_leaf(answer, leaf, issuer, now).and_then(|one| status_of(&one, now));
    told.unwrap_or_else(RevocationStatus::Unknown)
}

/// From when to when an answer, DER, says that the certificate is good.
///
/// # Errors
/// In words, where it does not count now, or says something else.
pub fn good_term(
    answer: &[u8],
    leaf: &CertificateFacts,
    issuer: &CertificateFacts,
    now: Timestamp,
) -> Result<(Timestamp, Timestamp), String> {
    let one = about_leaf(answer, leaf, issuer, now)?;
    if status_of(&one, now)? != RevocationStatus::Good {
        return Err("the CA has revoked it".into());
    }
    let (made, until) = term(&one);
    let moment = |second| Timestamp::from_second(second).map_err(|_| "the times of the OCSP answer cannot be read");
    Ok((moment(made)?, moment(until)?))
}

/// What an answer that counts says of the certificate.
fn about_leaf(
    answer: &[u8],
    leaf: &CertificateFacts,
    issuer: &CertificateFacts,
    now: Timestamp,
) -> Result<SingleResponse, String> {
    let named = Named::read(leaf, issuer)?;
    let unreadable = || "the OCSP answer cannot be read".to_string();
    let outer = OcspResponse::from_der(answer).map_err(|_| unreadable())?;
    if let Some(refusal) = refused(outer.response_status) {
        return Err(format!("the OCSP responder answers: {refusal}"));
    }
    let inner = outer.response_bytes.filter(|inner| inner.response_type == BASIC).ok_or_else(unreadable)?;
    let bytes = inner.response.as_bytes();
    let basic = BasicOcspResponse::from_der(bytes).map_err(|_| unreadable())?;
    named.check_signature(&basic, signed_part(bytes).ok_or_else(unreadable)?, now)?;
    let mut all = basic.tbs_response_data.responses.into_iter();
    let ours = all.find(|one| named.is_named_by(&one.cert_id)).ok_or("the OCSP answer is about another certificate")?;
    check_times(&ours, now)?;
    Ok(ours)
}

fn status_of(one: &SingleResponse, now: Timestamp) -> Result<RevocationStatus, String> {
    match &one.cert_status {
        CertStatus::Good(_) => Ok(RevocationStatus::Good),
        CertStatus::Revoked(info) => Ok(RevocationStatus::Revoked {
            since: Timestamp::from_second(seconds(&info.revocation_time)).unwrap_or(now),
            reason: info.revocation_reason.map(|reason| reason_words(&format!("{reason:?}"))),
        }),
        CertStatus::Unknown(_) => Err("the OCSP responder does not know the certificate".into()),
    }
}

fn refused(status: OcspResponseStatus) -> Option<&'static str> {
    match status {
        OcspResponseStatus::Successful => None,
        OcspResponseStatus::MalformedRequest => Some("the question is malformed"),
        OcspResponseStatus::InternalError => Some("internal error"),
        OcspResponseStatus::TryLater => Some("try again later"),
        OcspResponseStatus::SigRequired => Some("the question has to be signed"),
        OcspResponseStatus::Unauthorized => Some("not authorized to answer"),
    }
}

/// The signature is over the bytes as they were sent, not over what we would write for them.
fn signed_part(basic: &[u8]) -> Option<&[u8]> {
    let (_, outer) = Element::from_der(basic).ok()?;
    let (rest, _) = Element::from_der(outer.data).ok()?;
    outer.data.get(..outer.data.len() - rest.len())
}

fn seconds(time: &OcspGeneralizedTime) -> i64 {
    i64::try_from(time.0.to_unix_duration().as_secs()).unwrap_or(i64::MAX)
}

/// From when to when it counts, in seconds.
fn term(one: &SingleResponse) -> (i64, i64) {
    let made = seconds(&one.this_update);
    (made, one.next_update.as_ref().map_or(made + UNSAID_VALIDITY, seconds))
}

fn check_times(one: &SingleResponse, now: Timestamp) -> Result<(), String> {
    let (made, until) = term(one);
    if made > now.as_second() + CLOCKS_DIFFER {
        return Err("the OCSP answer is from the future".into());
    }
    match until < now.as_second() {
        true => Err("the OCSP answer is out of date".into()),
        false => Ok(()),
    }
}

/// A certificate and its issuer, parsed.
struct Named<'a> {
    leaf: X509Certificate<'a>,
    issuer: X509Certificate<'a>,
}

impl<'a> Named<'a> {
    fn read(leaf: &'a CertificateFacts, issuer: &'a CertificateFacts) -> Result<Self, String> {
        let read = |facts: &'a CertificateFacts| X509Certificate::from_der(&facts.der).map(|(_, read)| read);
        let unreadable = |_| "the certificate cannot be read".to_string();
        Ok(Self { leaf: read(leaf).map_err(unreadable)?, issuer: read(issuer).map_err(unreadable)? })
    }

    /// The hashes of the issuer's name and key; `None` for an algorithm that nobody uses for this.
    fn hashes(&self, algorithm: &ObjectIdentifier) -> Option<(Vec<u8>, Vec<u8>)> {
        let (name, key) = (self.issuer.subject().as_raw(), &self.issuer.public_key().subject_public_key.data);
        match *algorithm {
            SHA1 => Some((sha1::Sha1::digest(name).to_vec(), sha1::Sha1::digest(key).to_vec())),
            SHA256 => Some((sha2::Sha256::digest(name).to_vec(), sha2::Sha256::digest(key).to_vec())),
            _ => None,
        }
    }

    fn is_named_by(&self, id: &CertId) -> bool {
        let hashes = self.hashes(&id.hash_algorithm.oid);
        hashes.is_some_and(|(name, key)| id.issuer_name_hash.as_bytes() == name && id.issuer_key_hash.as_bytes() == key)
            && id.serial_number.as_bytes() == self.leaf.raw_serial()
    }

    /// The issuer answers itself, or by a certificate that it has issued for that alone (section 4.2.2.2).
    fn check_signature(&self, basic: &BasicOcspResponse, signed: &[u8], now: Timestamp) -> Result<(), String> {
        let algorithm = basic.signature_algorithm.to_der().unwrap_or_default();
        let unreadable = || "the signature of the OCSP answer cannot be read".to_string();
        let (_, algorithm) = AlgorithmIdentifier::from_der(&algorithm).map_err(|_| unreadable())?;
        let signature = BitString::new(0, basic.signature.as_bytes().ok_or_else(unreadable)?);
        let by = |key: &SubjectPublicKeyInfo<'_>| verify_signature(key, &algorithm, &signature, signed).is_ok();
        let appointed = |der: &[u8]| {
            let Ok((_, responder)) = X509Certificate::from_der(der) else { return false };
            let appointed = responder.extended_key_usage().ok().flatten().is_some_and(|usage| usage.value.ocsp_signing);
            let validity = responder.validity();
            let of_today = validity.not_before.timestamp() <= now.as_second() + CLOCKS_DIFFER
                && validity.not_after.timestamp() >= now.as_second();
            appointed
                && of_today
                && responder.issuer().as_raw() == self.issuer.subject().as_raw()
                && responder.verify_signature(Some(self.issuer.public_key())).is_ok()
                && by(responder.public_key())
        };
        let brought = basic.certs.iter().flatten().take(MOST_RESPONDERS).filter_map(|one| one.to_der().ok());
        match by(self.issuer.public_key()) || brought.into_iter().any(|der| appointed(&der)) {
            true => Ok(()),
            false => Err("the OCSP answer is not signed by the issuer".into()),
        }
    }
}

#[cfg(test)]
mod tests {
    //! `ocsp_answers/` holds what OpenSSL's responder said on 2026-11-28 at 06:28:52 of the certificate `leaf.pem`.

    use super::*;
    use crate::certificate::read_chain;

    const GOOD: &[u8] = include_bytes!("ocsp_answers/good.der");
    const UNSAID: &[u8] = include_bytes!("ocsp_answers/unsaid.der");
    const REVOKED: &[u8] = include_bytes!("ocsp_answers/revoked.der");
    const LEAF: &[u8] = include_bytes!("ocsp_answers/leaf.pem");
    const OTHER: &[u8] = include_bytes!("ocsp_answers/other.pem");
    const ISSUER: &[u8] = include_bytes!("ocsp_answers/ca.pem");

    fn judged(answer: &[u8], leaf: &[u8], now: &str) -> RevocationStatus {
        let [leaf, issuer] = [leaf, ISSUER].map(|pem| read_chain(pem).unwrap().remove(0));
        judge_ocsp(answer, &leaf, &issuer, now.parse().unwrap())
    }

    fn why(answer: &[u8], leaf: &[u8], now: &str) -> String {
        match judged(answer, leaf, now) {
            RevocationStatus::Unknown(why) => why,
            known => panic!("{known:?}"),
        }
    }

    const NOON: &str = "2026-11-28T12:00:00Z";

    #[test]
    fn the_question_is_the_one_that_openssl_asks() {
        let [leaf, issuer] = [LEAF, ISSUER].map(|pem| read_chain(pem).unwrap().remove(0));
        let asked: String = ocsp_question(&leaf, &issuer).unwrap().iter().map(|byte| format!("{byte:02x}")).collect();
        assert_eq!(asked, QUESTION);
        assert_eq!(leaf.responders_at, ["http://ca.saltmarsh.example/ask"]);
        assert_eq!(leaf.issuer_at, [""; 0], "a responder is no place of an issuer");
    }

    #[test]
    fn an_answer_of_the_issuer_counts_from_its_time_to_its_end() {
        assert_eq!(judged(GOOD, LEAF, NOON), RevocationStatus::Good);
        assert_eq!(judged(GOOD, LEAF, "2026-11-28T06:23:52Z"), RevocationStatus::Good, "clocks differ");
        assert_eq!(judged(GOOD, LEAF, "2026-11-29T06:28:52Z"), RevocationStatus::Good, "its last second");
        assert!(why(GOOD, LEAF, "2026-11-28T06:23:51Z").contains("future"));
        assert!(why(GOOD, LEAF, "2026-11-29T06:28:53Z").contains("out of date"));
        assert_eq!(judged(UNSAID, LEAF, "2026-11-29T06:28:00Z"), RevocationStatus::Good);
        assert!(why(UNSAID, LEAF, "2026-11-29T06:29:00Z").contains("out of date"));
        let RevocationStatus::Revoked { since, reason } = judged(REVOKED, LEAF, NOON) else { panic!("not revoked") };
        assert_eq!((since.to_string(), reason), ("2026-11-28T06:28:52Z".into(), Some("key compromise".into())));
    }

    #[test]
    fn what_is_about_another_or_was_changed_on_its_way_does_not_count() {
        assert!(why(GOOD, OTHER, NOON).contains("another certificate"));
        for at in 0..GOOD.len() {
            let mut changed = GOOD.to_vec();
            changed[at] ^= 1;
            assert!(matches!(judged(&changed, LEAF, NOON), RevocationStatus::Unknown(_)), "byte {at}");
            let shorter = judged(&GOOD[..at], LEAF, NOON);
            assert!(matches!(shorter, RevocationStatus::Unknown(_)), "cut at {at}");
        }
        // A responder that refuses: one status and nothing else (section 2.3).
        assert!(why(&[0x30, 3, 0x0a, 1, 3], LEAF, NOON).contains("try again later"));
        assert!(why(&[0x30, 3, 0x0a, 1, 0], LEAF, NOON).contains("cannot be read"));
    }

    const QUESTION: &str = "30433041303f303d303b300906052b0e03021a0500041407bc46e87f785692a80454f5092c517355354416041433d7f6ffa65b85169a61ac8308b6680dd8b773a102021000";
}

//! Private keys: made, kept and compared here, never shown. Certificate requests (RFC 2986) are signed with them.

use brightharbor_core::acme::Identifier;
use brightharbor_core::certificate::{KeyKind, STATUS_REQUEST, TLS_FEATURE, rsa_key_bits};
use brightharbor_core::name::Host;
use jiff::{SignedDuration, Timestamp};
use rcgen::string::{Ia5String, PrintableString};
use rcgen::{
    CertificateParams, CustomExtension, DistinguishedName, DnType, DnValue, KeyPair, PKCS_ECDSA_P256_SHA256,
    PKCS_ECDSA_P384_SHA384, PKCS_RSA_SHA256, PublicKeyData, RsaKeySize,
};
use zeroize::Zeroizing;

#[derive(Debug, thiserror::Error)]
#[error("{what}: {reason}")]
pub struct KeyError {
    what: &'static str,
    reason: String,
}

fn failed(what: &'static str) -> impl Fn(rcgen::Error) -> KeyError {
    move |error| KeyError { what, reason: words(&error) }
}

/// The library's errors name their own types.
fn words(error: &rcgen::Error) -> String {
    match error {
        rcgen::Error::PemError(_) => "it cannot be read as PEM".into(),
        rcgen::Error::CouldNotParseKeyPair | rcgen::Error::RingKeyRejected(_) => {
            "it is damaged, or of a kind that no browser takes".into()
        }
        rcgen::Error::InvalidAsn1String(_) => "it has characters that cannot stand there".into(),
        _ => "it is refused".into(),
    }
}

/// The object identifier of emailAddress (RFC 2985 section 5.2.1).
const EMAIL_ADDRESS: [u64; 7] = [1, 2, 840, 113_549, 1, 9, 1];

/// A new P-256 key, as PKCS#8 PEM.
pub fn new_key_pem() -> Result<Zeroizing<String>, KeyError> {
    new_key_of(KeyKind::P256)
}

/// A new key of the kind, as PKCS#8 PEM, from the system's random source.
pub fn new_key_of(kind: KeyKind) -> Result<Zeroizing<String>, KeyError> {
    let key = match kind {
        KeyKind::P256 => KeyPair::generate_for(&PKCS_ECDSA_P256_SHA256),
        KeyKind::P384 => KeyPair::generate_for(&PKCS_ECDSA_P384_SHA384),
        KeyKind::Rsa2048 => KeyPair::generate_rsa_for(&PKCS_RSA_SHA256, RsaKeySize::_2048),
        KeyKind::Rsa3072 => KeyPair::generate_rsa_for(&PKCS_RSA_SHA256, RsaKeySize::_3072),
        KeyKind::Rsa4096 => KeyPair::generate_rsa_for(&PKCS_RSA_SHA256, RsaKeySize::_4096),
    };
    Ok(Zeroizing::new(key.map_err(failed("no key could be made"))?.serialize_pem()))
}

/// Who asks for a certificate, as sellers want it; what is empty is left out.
#[derive(Debug, Clone, Default)]
pub struct Subject {
    /// Two letters (ISO 3166-1), which stand as a PrintableString.
    pub country: Option<String>,
    pub state: Option<String>,
    pub locality: Option<String>,
    pub organization: Option<String>,
    pub unit: Option<String>,
    /// A mailbox (RFC 5280 appendix A.1, emailAddress).
    pub email: Option<String>,
}

/// A request to be sent to a seller, PEM: the first one is the common name, all of them stand in the extension.
pub fn seller_request(key_pem: &str, identifiers: &[Identifier], subject: &Subject) -> Result<String, KeyError> {
    let key = KeyPair::from_pem(key_pem).map_err(failed("the key cannot be read"))?;
    let mut params = params_for(identifiers)?;
    params.distinguished_name = named(identifiers, subject)?;
    let request = params.serialize_request(&key).map_err(failed("the request cannot be signed"))?;
    request.pem().map_err(failed("the request cannot be written"))
}

/// A certificate that is signed with its own key, PEM: valid from a moment ago for so many days.
pub fn self_signed(key_pem: &str, names: &[Host], now: Timestamp, days: u16) -> Result<String, KeyError> {
    let key = KeyPair::from_pem(key_pem).map_err(failed("the key cannot be read"))?;
    let identifiers: Vec<Identifier> = names.iter().cloned().map(Identifier::from).collect();
    let mut params = params_for(&identifiers)?;
    params.distinguished_name =
        named(&identifiers, &Subject { unit: Some("self-signed stop-gap".into()), ..Subject::default() })?;
    let moment = |time: Timestamp| time::OffsetDateTime::from_unix_timestamp(time.as_second());
    let wrong = |_| KeyError { what: "the certificate cannot be made", reason: "its dates are out of range".into() };
    let end = now + SignedDuration::from_hours(24 * i64::from(days));
    params.not_before = moment(now - SignedDuration::from_hours(1)).map_err(wrong)?;
    params.not_after = moment(end).map_err(wrong)?;
    Ok(params.self_signed(&key).map_err(failed("the certificate cannot be signed"))?.pem())
}

fn params_for(identifiers: &[Identifier]) -> Result<CertificateParams, KeyError> {
    let names: Vec<String> = identifiers.iter().map(in_certificate).collect();
    CertificateParams::new(names).map_err(failed("the names cannot be written"))
}

/// An address stands in a certificate as such, without the brackets of a URL.
fn in_certificate(one: &Identifier) -> String {
    one.name.address().map_or_else(|| one.to_string(), |address| address.to_string())
}

fn named(identifiers: &[Identifier], subject: &Subject) -> Result<DistinguishedName, KeyError> {
    let mut name = DistinguishedName::new();
    if let Some(country) = &subject.country {
        let country = PrintableString::try_from(country.as_str()).map_err(failed("the country cannot be written"))?;
        name.push(DnType::CountryName, DnValue::PrintableString(country));
    }
    let parts = [
        (DnType::StateOrProvinceName, &subject.state),
        (DnType::LocalityName, &subject.locality),
        (DnType::OrganizationName, &subject.organization),
        (DnType::OrganizationalUnitName, &subject.unit),
    ];
    for (kind, value) in parts {
        if let Some(value) = value {
            name.push(kind, value.as_str());
        }
    }
    if let Some(email) = &subject.email {
        let email = Ia5String::try_from(email.as_str()).map_err(failed("the mailbox cannot be written"))?;
        name.push(DnType::CustomDnType(EMAIL_ADDRESS.to_vec()), DnValue::Ia5String(email));
    }
    // A common name may have 64 characters (RFC 5280, ub-common-name); a longer one stands in the extension alone.
    if let Some(first) = identifiers.first().map(in_certificate).filter(|first| first.len() <= 64) {
        name.push(DnType::CommonName, first);
    }
    Ok(name)
}

/// The public half of a PEM key: its subject public key info, DER.
pub fn public_half(key_pem: &str) -> Result<Vec<u8>, KeyError> {
    let key = KeyPair::from_pem(key_pem).map_err(|error| match rsa_key_bits(key_pem) {
        Some(bits) if bits < 2048 => KeyError {
            what: "the key is too weak for browsers",
            reason: format!("it is RSA with {bits} bits, and 2048 is the least"),
        },
        _ => failed("the key cannot be read")(error),
    })?;
    Ok(key.subject_public_key_info())
}

/// A certificate request for the names, DER. The names stand in the extension alone: CAs take nothing else. `stapled` asks
/// for one that demands its CA's statement in each handshake.
pub fn certificate_request(key_pem: &str, identifiers: &[Identifier], stapled: bool) -> Result<Vec<u8>, KeyError> {
    let key = KeyPair::from_pem(key_pem).map_err(failed("the key cannot be read"))?;
    let mut params = params_for(identifiers)?;
    params.distinguished_name = DistinguishedName::new();
    if stapled {
        let feature: Vec<u64> = TLS_FEATURE.split('.').filter_map(|arc| arc.parse().ok()).collect();
        params.custom_extensions = vec![CustomExtension::from_oid_content(&feature, STATUS_REQUEST.to_vec())];
    }
    let request = params.serialize_request(&key).map_err(failed("the request cannot be signed"))?;
    Ok(request.der().to_vec())
}

/// Each request with a password is hashed anew by the web server: so much takes about 15 ms.
const PASSWORD_COST: u32 = 8;

/// A password as files of passwords hold it (bcrypt); `None` if the system has no chance bytes.
pub fn password_hash(password: &str) -> Option<String> {
    bcrypt::hash(password, PASSWORD_COST).ok()
}

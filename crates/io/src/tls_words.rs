//! What went wrong in a TLS handshake, in words for people: the library's errors name its own types. Whom a certificate is
//! trusted by is in `trust.rs`.

use std::io;

use brightharbor_core::finding::spaced;
use rustls::pki_types::pem::Error as PemError;
use rustls::{AlertDescription as Alert, CertificateError as Wrong, Error, InvalidMessage, PeerIncompatible as Apart};

use crate::trust::distrust;

/// Of a handshake, as the connection tells of it.
pub(crate) fn handshake_words(error: &io::Error) -> String {
    if let Some(error) = error.get_ref().and_then(|inner| inner.downcast_ref::<Error>()) {
        return tls_words(error);
    }
    match error.kind() {
        io::ErrorKind::UnexpectedEof => "the connection was closed".into(),
        io::ErrorKind::ConnectionReset | io::ErrorKind::BrokenPipe => "the connection was reset".into(),
        _ => error.to_string(),
    }
}

pub(crate) fn tls_words(error: &Error) -> String {
    match error {
        Error::InvalidCertificate(_) => format!("its certificate is not accepted: {}", distrust(error).words()),
        Error::AlertReceived(alert) => alert_words(*alert),
        Error::PeerIncompatible(
            Apart::ServerDoesNotSupportTls12Or13
            | Apart::ServerTlsVersionIsDisabledByOurConfig
            | Apart::Tls12NotOffered
            | Apart::Tls12NotOfferedOrEnabled,
        ) => "it speaks no version of TLS that is asked for".into(),
        Error::PeerIncompatible(why) => format!("it is incompatible: {}", spaced(&format!("{why:?}"), ' ')),
        Error::PeerMisbehaved(why) => {
            format!("it does not keep to the protocol: {}", spaced(&format!("{why:?}"), ' '))
        }
        Error::InvalidMessage(InvalidMessage::InvalidContentType) => "what it answers is not TLS".into(),
        Error::InvalidMessage(why) => format!("what it sends cannot be read: {}", spaced(&format!("{why:?}"), ' ')),
        Error::InappropriateMessage { .. } | Error::InappropriateHandshakeMessage { .. } => {
            "it sends a message that is not due".into()
        }
        Error::NoCertificatesPresented => "it shows no certificate".into(),
        other => other.to_string(),
    }
}

/// Of a file that should hold certificates.
pub(crate) fn pem_words(error: &PemError) -> String {
    match error {
        PemError::MissingSectionEnd { .. } => "a PEM section in it has no end".into(),
        PemError::IllegalSectionStart { .. } => "a PEM section in it begins wrongly".into(),
        PemError::Base64Decode(_) => "a PEM section in it is not Base64".into(),
        PemError::Io(error) => error.to_string(),
        PemError::NoItemsFound => "no certificate in it".into(),
        _ => "it is not PEM".into(),
    }
}

/// What a verifier has against a certificate, beside the usual.
pub(crate) fn certificate_words(wrong: &Wrong) -> String {
    #[allow(deprecated, reason = "the library still makes it")]
    match wrong {
        Wrong::BadEncoding => "it cannot be read".into(),
        Wrong::BadSignature => "its signature is wrong".into(),
        Wrong::Revoked => "it is revoked".into(),
        Wrong::UnhandledCriticalExtension => "it has a critical extension that is not understood".into(),
        Wrong::InvalidPurpose | Wrong::InvalidPurposeContext { .. } => "it is not meant for servers".into(),
        Wrong::UnsupportedSignatureAlgorithm
        | Wrong::UnsupportedSignatureAlgorithmContext { .. }
        | Wrong::UnsupportedSignatureAlgorithmForPublicKeyContext { .. } => {
            "it is signed by an algorithm that is weak or unknown".into()
        }
        Wrong::Other(other) => match inner_name(&other.to_string()).as_str() {
            "CaUsedAsEndEntity" => "it is the certificate of a CA, not of a server".into(),
            "EndEntityUsedAsCa" => "it was signed by a certificate that may not sign others".into(),
            "UnsupportedCertVersion" => "it is of an old version of X.509, which programs refuse".into(),
            name => spaced(name, ' '),
        },
        other => other.to_string(),
    }
}

/// `CaUsedAsEndEntity` of `OtherError(CaUsedAsEndEntity)`.
fn inner_name(debug: &str) -> String {
    let inner = debug.rsplit('(').next().unwrap_or(debug);
    inner.trim_end_matches(')').to_string()
}

/// Alerts have names of their own in RFC 8446 section 6.
fn alert_words(alert: Alert) -> String {
    let name = match alert {
        Alert::UnrecognisedName => "unrecognized_name".into(),
        Alert::UnknownCA => "unknown_ca".into(),
        Alert::UnknownPSKIdentity => "unknown_psk_identity".into(),
        other => spaced(&format!("{other:?}"), '_'),
    };
    let meaning = match alert {
        Alert::UnrecognisedName => "it does not serve this name",
        Alert::ProtocolVersion => "it speaks no version of TLS that is asked for",
        Alert::HandshakeFailure | Alert::InsufficientSecurity => "it takes no cipher that is offered, or no such key",
        Alert::CertificateRequired | Alert::BadCertificate => "it demands a certificate of the client",
        Alert::NoApplicationProtocol => "it speaks no protocol that is offered",
        Alert::AccessDenied => "it denies access",
        Alert::InternalError => "it has an error of its own",
        _ => return format!("it broke off with the alert {name}"),
    };
    format!("{meaning}: alert {name}")
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use rustls::{OtherError, PeerMisbehaved};

    use super::*;

    #[test]
    fn errors_of_the_library_are_told_in_words() {
        let wrong = |wrong| Error::InvalidCertificate(wrong);
        let told = [
            (
                Error::AlertReceived(Alert::HandshakeFailure),
                "it takes no cipher that is offered, or no such key: alert handshake_failure",
            ),
            (Error::AlertReceived(Alert::UnrecognisedName), "it does not serve this name: alert unrecognized_name"),
            (Error::AlertReceived(Alert::DecodeError), "it broke off with the alert decode_error"),
            (Apart::ServerDoesNotSupportTls12Or13.into(), "it speaks no version of TLS that is asked for"),
            (Apart::NoCipherSuitesInCommon.into(), "it is incompatible: no cipher suites in common"),
            (
                PeerMisbehaved::TooManyEmptyFragments.into(),
                "it does not keep to the protocol: too many empty fragments",
            ),
            (InvalidMessage::InvalidContentType.into(), "what it answers is not TLS"),
            (wrong(Wrong::BadSignature), "its certificate is not accepted: its signature is wrong"),
            (wrong(Wrong::NotValidForName), "its certificate is not accepted: it does not cover the name"),
            (wrong(Wrong::InvalidPurpose), "its certificate is not accepted: it is not meant for servers"),
        ];
        for (error, words) in told {
            assert_eq!(handshake_words(&io::Error::new(io::ErrorKind::InvalidData, error)), words);
        }
        let ca = Wrong::Other(OtherError(Arc::new(io::Error::other("OtherError(CaUsedAsEndEntity)"))));
        assert_eq!(certificate_words(&ca), "it is the certificate of a CA, not of a server");
        assert_eq!(handshake_words(&io::ErrorKind::UnexpectedEof.into()), "the connection was closed");
    }
}

//! Why a certificate, a request or a file of them cannot be read, in words for people: the parsers' errors name their own
//! types. What goes wrong in a TLS handshake is in `brightharbor-io` (`tls_words.rs`).

use x509_parser::error::{PEMError, X509Error};

/// Of a certificate, a list or a request, DER.
pub(super) fn x509_words(error: impl Into<X509Error>) -> String {
    use X509Error as Wrong;
    match error.into() {
        Wrong::InvalidVersion => "it is of an unknown version".into(),
        Wrong::InvalidSerial => "its serial number cannot be read".into(),
        Wrong::InvalidAlgorithmIdentifier => "the algorithm of its signature cannot be read".into(),
        Wrong::InvalidX509Name => "a name in it cannot be read".into(),
        Wrong::InvalidDate => "a date in it cannot be read".into(),
        Wrong::InvalidSPKI => "its public key cannot be read".into(),
        Wrong::InvalidExtensions | Wrong::InvalidAttributes => "its extensions cannot be read".into(),
        Wrong::DuplicateExtensions | Wrong::DuplicateAttributes => "it has an extension twice".into(),
        Wrong::InvalidSignatureValue => "its signature cannot be read".into(),
        Wrong::SignatureVerificationError => "its signature is wrong".into(),
        Wrong::SignatureUnsupportedAlgorithm => "its signature is of an unknown kind".into(),
        _ => "it is damaged, or something else than it says".into(),
    }
}

/// Of a PEM section (RFC 7468).
pub(super) fn pem_words(error: &PEMError) -> String {
    match error {
        PEMError::Base64DecodeError => "what stands between its lines of dashes is not Base64".into(),
        PEMError::IncompletePEM => "it is cut off: the line with END is missing".into(),
        PEMError::InvalidHeader | PEMError::MissingHeader => "its line with BEGIN cannot be read".into(),
        PEMError::IOError(error) => error.to_string(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::certificate::{read_chain, read_der, read_request};

    #[test]
    fn each_part_that_is_wrong_is_named() {
        use X509Error as Wrong;
        let told = [
            (Wrong::InvalidVersion, "version"),
            (Wrong::InvalidSerial, "serial number"),
            (Wrong::InvalidAlgorithmIdentifier, "algorithm of its signature"),
            (Wrong::InvalidX509Name, "name"),
            (Wrong::InvalidDate, "date"),
            (Wrong::InvalidSPKI, "public key"),
            (Wrong::InvalidExtensions, "extensions cannot"),
            (Wrong::InvalidAttributes, "extensions cannot"),
            (Wrong::DuplicateExtensions, "extension twice"),
            (Wrong::DuplicateAttributes, "extension twice"),
            (Wrong::InvalidSignatureValue, "its signature cannot"),
            (Wrong::SignatureVerificationError, "its signature is wrong"),
            (Wrong::SignatureUnsupportedAlgorithm, "its signature is of an unknown kind"),
            (Wrong::Generic, "damaged"),
        ];
        for (error, words) in told {
            let said = x509_words(error);
            assert!(said.contains(words), "{said}");
        }
        let header = [PEMError::InvalidHeader, PEMError::MissingHeader].map(|error| pem_words(&error));
        assert!(header.iter().all(|said| said.contains("with BEGIN")), "{header:?}");
        let of_disk = PEMError::IOError(std::io::Error::other("the disk is full"));
        assert_eq!(pem_words(&of_disk), "the disk is full");
    }

    /// Plain words for whatever is wrong: no type, no number, no English of a library.
    #[test]
    fn a_certificate_that_was_changed_anywhere_is_read_or_refused_in_words() {
        let key = rcgen::KeyPair::generate().unwrap();
        let params = rcgen::CertificateParams::new(vec!["gullrock.example".into()]).unwrap();
        let good = params.self_signed(&key).unwrap();
        let request = params.serialize_request(&key).unwrap();
        let mut told = std::collections::BTreeSet::new();
        for at in 0..good.der().len() {
            for bit in [1, 0x20, 0xff] {
                let mut changed = good.der().to_vec();
                changed[at] ^= bit;
                told.extend(read_der(&changed).err());
            }
            told.extend(read_der(&good.der()[..at]).err());
        }
        for at in 0..request.der().len() {
            told.extend(read_request(&request.der()[..at]).err());
        }
        assert!(told.len() > 4, "{told:?}");
        for words in &told {
            assert!(words.starts_with("it") || words.starts_with("a ") || words.starts_with("the "), "{words}");
            assert!(!words.contains(['(', '{', ':']), "{words}");
        }
        let pem = good.pem();
        let refused = |pem: &str| read_chain(pem.as_bytes()).unwrap_err().to_string();
        assert!(refused(&pem[..pem.len() / 2]).contains("the line with END is missing"));
        assert!(refused(&pem.replace("MII", "M!I")).contains("not Base64"));
    }
}

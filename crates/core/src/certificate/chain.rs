//! Whether a chain is whole and in order, and whether a key belongs to it.

use jiff::Timestamp;
use x509_parser::prelude::{FromDer, X509Certificate};

use super::CertificateFacts;

#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ChainProblem {
    #[error("the key is not the one of the certificate: they do not belong together")]
    OtherKey,
    #[error("the certificate is valid only from {0}")]
    NotYet(Timestamp),
    #[error("the certificate has expired at {0}")]
    Expired(Timestamp),
    #[error("certificate {number} ({subject}) has not signed the one before it")]
    NotTheIssuer { number: usize, subject: String },
}

impl ChainProblem {
    /// Whether a server would refuse to start with it, or serve what nobody asked for; dates only warn visitors.
    pub fn breaks_servers(&self) -> bool {
        matches!(self, Self::OtherKey | Self::NotTheIssuer { .. })
    }
}

/// Everything wrong with a chain (leaf first, never empty) and the public half of the key beside it.
pub fn check_pair(chain: &[CertificateFacts], key_public: &[u8], now: Timestamp) -> Vec<ChainProblem> {
    let mut problems = Vec::new();
    let leaf = &chain[0];
    if leaf.public_key != key_public {
        problems.push(ChainProblem::OtherKey);
    }
    for (index, pair) in chain.windows(2).enumerate() {
        if !has_signed(&pair[1], &pair[0]) {
            problems.push(ChainProblem::NotTheIssuer { number: index + 2, subject: pair[1].subject.clone() });
        }
    }
    if now < leaf.not_before {
        problems.push(ChainProblem::NotYet(leaf.not_before));
    }
    if now >= leaf.not_after {
        problems.push(ChainProblem::Expired(leaf.not_after));
    }
    problems
}

/// The certificate that has issued the leaf, where the chain has it.
pub fn issuer_in(chain: &[CertificateFacts]) -> Option<&CertificateFacts> {
    let (leaf, others) = chain.split_first()?;
    others.iter().find(|facts| facts.subject == leaf.issuer)
}

/// Whether one is the issuer of the other, by its name and by the signature.
pub fn has_signed(issuer: &CertificateFacts, subject: &CertificateFacts) -> bool {
    let (Ok((_, issuer)), Ok((_, subject))) =
        (X509Certificate::from_der(&issuer.der), X509Certificate::from_der(&subject.der))
    else {
        return false;
    };
    subject.issuer().as_raw() == issuer.subject().as_raw()
        && subject.verify_signature(Some(issuer.public_key())).is_ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::certificate::read_chain;
    use rcgen::{BasicConstraints, CertificateParams, IsCa, Issuer, KeyPair};

    struct Made {
        pem: String,
        leaf_key: Vec<u8>,
        other_key: Vec<u8>,
        stranger: String,
    }

    fn made() -> Made {
        use rcgen::PublicKeyData;
        let authority = |name: &str| {
            let key = KeyPair::generate().unwrap();
            let mut params = CertificateParams::new(vec![]).unwrap();
            params.distinguished_name.push(rcgen::DnType::CommonName, name);
            params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
            let certificate = params.self_signed(&key).unwrap();
            (certificate.pem(), Issuer::new(params, key))
        };
        let (root_pem, root) = authority("Saltmarsh test root");
        // The same name with another key: only the signature tells them apart.
        let (stranger, _) = authority("Saltmarsh test root");
        let key = KeyPair::generate().unwrap();
        let params = CertificateParams::new(vec!["gullrock.example".into()]).unwrap();
        let leaf = params.signed_by(&key, &root).unwrap();
        Made {
            pem: leaf.pem() + &root_pem,
            leaf_key: key.subject_public_key_info(),
            other_key: KeyPair::generate().unwrap().subject_public_key_info(),
            stranger: leaf.pem() + &stranger,
        }
    }

    #[test]
    fn key_order_and_dates() {
        let made = made();
        let now: Timestamp = "2026-11-23T07:00:00Z".parse().unwrap();
        let chain = read_chain(made.pem.as_bytes()).unwrap();
        assert_eq!(chain[0].names, ["gullrock.example"]);
        assert_eq!(check_pair(&chain, &made.leaf_key, now), []);
        assert_eq!(check_pair(&chain, &made.other_key, now), [ChainProblem::OtherKey]);
        let late = check_pair(&chain, &made.leaf_key, Timestamp::MAX);
        assert!(matches!(late[..], [ChainProblem::Expired(_)]));
        let early = check_pair(&chain, &made.leaf_key, Timestamp::UNIX_EPOCH);
        assert!(matches!(early[..], [ChainProblem::NotYet(_)]));
        let forged = read_chain(made.stranger.as_bytes()).unwrap();
        assert!(matches!(check_pair(&forged, &made.leaf_key, now)[..], [ChainProblem::NotTheIssuer { number: 2, .. }]));
    }

    #[test]
    fn texts_that_are_no_chain() {
        use crate::certificate::ReadError;
        assert_eq!(read_chain(b"").unwrap_err(), ReadError::Empty);
        assert_eq!(read_chain(b"a bakery").unwrap_err(), ReadError::Empty);
        let broken = "-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n";
        assert!(matches!(read_chain(broken.as_bytes()), Err(ReadError::Certificate { number: 1, .. })));
        let many = made().pem.repeat(15);
        assert_eq!(read_chain(many.as_bytes()).unwrap_err(), ReadError::TooMany(20));
    }
}

//! From a heap of certificates to the chain of one key: the leaf first, each followed by its issuer, without the root.
//! What is missing or too much is told; what makes it useless for a site refuses it.

use jiff::Timestamp;

use super::chain::has_signed;
use super::{CertificateFacts, certificate_pem, uncovered};
use crate::name::Host;

/// A chain that fits a key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Assembled {
    /// Leaf first, without a root.
    pub chain: Vec<CertificateFacts>,
    /// The issuer that nobody gave, unless a root was given or visitors' programs know it: then it is that root.
    pub missing: Option<String>,
    /// What was left out, and why, in sentences.
    pub said: Vec<String>,
}

impl Assembled {
    pub fn chain_pem(&self) -> String {
        self.chain.iter().map(certificate_pem).collect()
    }
}

#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Unfit {
    #[error("no certificate in it")]
    NoCertificate,
    #[error("none of the certificates is for this key; they are for {0}")]
    OtherKey(String),
    #[error("the certificate does not cover {0}")]
    Uncovered(String),
    #[error("the certificate expired at {0}")]
    Expired(Timestamp),
    #[error("the certificate is valid only from {0}")]
    NotYet(Timestamp),
    #[error("the certificate is not for servers: its extended key usage names other purposes")]
    OtherPurpose,
    #[error("the certificate is too weak for browsers: {0}")]
    Weak(String),
}

/// Puts the chain of the key together.
pub fn assemble(mut given: Vec<CertificateFacts>, key_public: &[u8]) -> Result<Assembled, Unfit> {
    if given.is_empty() {
        return Err(Unfit::NoCertificate);
    }
    let mut seen: Vec<Vec<u8>> = Vec::new();
    given.retain(|facts| {
        let new = !seen.contains(&facts.der);
        seen.push(facts.der.clone());
        new
    });
    // Of several for one key, such as before and after a renewal, the one that lasts longest.
    let own = given.iter().enumerate().filter(|(_, facts)| facts.public_key == key_public);
    let Some((leaf, _)) = own.max_by_key(|(_, facts)| facts.not_after) else {
        let subjects: Vec<String> =
            given.iter().filter(|facts| !facts.names.is_empty()).map(|f| f.names.join(" ")).collect();
        let subjects =
            if subjects.is_empty() { given.iter().map(|facts| facts.subject.clone()).collect() } else { subjects };
        return Err(Unfit::OtherKey(subjects.join("; ")));
    };
    let mut chain = vec![given.remove(leaf)];
    let mut said = Vec::new();
    let missing = loop {
        let last = &chain[chain.len() - 1];
        if is_self_signed(last) {
            break None;
        }
        // Each is taken once, so that issuers who vouch for each other end as well.
        let Some(next) = given.iter().position(|facts| has_signed(facts, last)) else {
            break Some(last.issuer.clone());
        };
        let issuer = given.remove(next);
        if is_self_signed(&issuer) {
            said.push(format!("the root {} is left out: visitors' programs bring their own", issuer.subject));
            break None;
        }
        chain.push(issuer);
    };
    said.extend(given.iter().map(|facts| format!("{} is left out: it does not belong to the chain", facts.subject)));
    Ok(Assembled { chain, missing, said })
}

/// Which of the chains that several keys make, such as those of one archive, is for these hostnames: one that is of use
/// goes before the others, then the one that lasts longest.
pub fn best_for(made: &[Assembled], hostnames: &[Host], now: Timestamp) -> Option<usize> {
    let leaf = |made: &Assembled| made.chain.first().cloned();
    let found = made.iter().enumerate().filter_map(|(at, made)| Some((at, leaf(made)?)));
    found.max_by_key(|(_, leaf)| (check_leaf(leaf, hostnames, now).is_ok(), leaf.not_after)).map(|(at, _)| at)
}

pub fn is_self_signed(facts: &CertificateFacts) -> bool {
    facts.subject == facts.issuer && has_signed(facts, facts)
}

/// Whether the leaf of a chain is of use for these hostnames.
pub fn check_leaf(leaf: &CertificateFacts, hostnames: &[Host], now: Timestamp) -> Result<(), Unfit> {
    let open: Vec<&str> = uncovered(&leaf.names, hostnames).iter().map(|name| name.as_str()).collect();
    if !open.is_empty() {
        return Err(Unfit::Uncovered(open.join(", ")));
    }
    if now >= leaf.not_after {
        return Err(Unfit::Expired(leaf.not_after));
    }
    if now < leaf.not_before {
        return Err(Unfit::NotYet(leaf.not_before));
    }
    if !leaf.is_for_servers {
        return Err(Unfit::OtherPurpose);
    }
    match leaf.weakness() {
        Some(why) => Err(Unfit::Weak(why)),
        None => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::certificate::read_chain;
    use rcgen::{BasicConstraints, CertificateParams, IsCa, Issuer, KeyPair, PublicKeyData};

    fn authority(name: &str, by: Option<&Issuer<'static, KeyPair>>) -> (CertificateFacts, Issuer<'static, KeyPair>) {
        let key = KeyPair::generate().unwrap();
        let mut params = CertificateParams::new(vec![]).unwrap();
        params.distinguished_name.push(rcgen::DnType::CommonName, name);
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        let made = match by {
            Some(issuer) => params.signed_by(&key, issuer).unwrap(),
            None => params.self_signed(&key).unwrap(),
        };
        (read_chain(made.pem().as_bytes()).unwrap().remove(0), Issuer::new(params, key))
    }

    fn facts_of(names: &[&str], issuer: &Issuer<'static, KeyPair>) -> (CertificateFacts, Vec<u8>) {
        let key = KeyPair::generate().unwrap();
        let params = CertificateParams::new(names.iter().map(|name| name.to_string()).collect::<Vec<_>>()).unwrap();
        let leaf = params.signed_by(&key, issuer).unwrap();
        (read_chain(leaf.pem().as_bytes()).unwrap().remove(0), key.subject_public_key_info())
    }

    #[test]
    fn a_heap_becomes_a_chain() {
        let (root, root_issuer) = authority("Saltmarsh root", None);
        let (middle, middle_issuer) = authority("Saltmarsh middle", Some(&root_issuer));
        let (stranger, _) = authority("Stranger", None);
        let (leaf, key) = facts_of(&["gullrock.example"], &middle_issuer);
        let heap = vec![root.clone(), stranger.clone(), middle.clone(), leaf.clone(), middle.clone()];
        let made = assemble(heap, &key).unwrap();
        assert_eq!(read_chain(made.chain_pem().as_bytes()).unwrap(), made.chain);
        assert_eq!((made.chain, made.missing), (vec![leaf.clone(), middle.clone()], None));
        assert!(made.said[0].contains("the root") && made.said[1].contains("Stranger"), "{:?}", made.said);
        let short = assemble(vec![leaf.clone(), root.clone()], &key).unwrap();
        assert_eq!(short.missing.as_deref(), Some(leaf.issuer.as_str()));
        let other = assemble(vec![leaf.clone()], &root.public_key).unwrap_err();
        assert_eq!(other, Unfit::OtherKey("gullrock.example".into()));
    }

    /// One more certificate for the same name and key, signed by another.
    fn vouched(name: &str, key: KeyPair, by: &Issuer<'static, KeyPair>) -> CertificateFacts {
        let mut params = CertificateParams::new(vec![]).unwrap();
        params.distinguished_name.push(rcgen::DnType::CommonName, name);
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        read_chain(params.signed_by(&key, by).unwrap().pem().as_bytes()).unwrap().remove(0)
    }

    #[test]
    fn issuers_that_vouch_for_each_other_come_to_an_end() {
        let (_, ebb) = authority("Ebb", None);
        let (_, flood) = authority("Flood", None);
        let copy = |issuer: &Issuer<'static, KeyPair>| KeyPair::from_pem(&issuer.key().serialize_pem()).unwrap();
        let (ebb_by_flood, flood_by_ebb) = (vouched("Ebb", copy(&ebb), &flood), vouched("Flood", copy(&flood), &ebb));
        let (leaf, key) = facts_of(&["gullrock.example"], &ebb);
        let made = assemble(vec![flood_by_ebb.clone(), leaf.clone(), ebb_by_flood.clone()], &key).unwrap();
        assert_eq!((made.missing.as_deref(), made.chain), (Some("CN=Ebb"), vec![leaf, ebb_by_flood, flood_by_ebb]));
    }

    #[test]
    fn of_two_certificates_for_one_key_the_later_one_is_taken() {
        let (_, issuer) = authority("Saltmarsh root", None);
        let key = KeyPair::generate().unwrap();
        let until = |year| {
            let mut params = CertificateParams::new(vec!["gullrock.example".to_string()]).unwrap();
            params.not_after = rcgen::date_time_ymd(year, 1, 1);
            read_chain(params.signed_by(&key, &issuer).unwrap().pem().as_bytes()).unwrap().remove(0)
        };
        let (old, new) = (until(2027), until(2028));
        for heap in [[old.clone(), new.clone()], [new.clone(), old.clone()]] {
            let made = assemble(heap.to_vec(), &key.subject_public_key_info()).unwrap();
            assert_eq!(made.chain, std::slice::from_ref(&new));
        }
    }

    #[test]
    fn of_several_keys_the_one_for_the_hostnames_is_taken() {
        let (_, issuer) = authority("Saltmarsh root", None);
        let until = |name: &str, year| {
            let key = KeyPair::generate().unwrap();
            let mut params = CertificateParams::new(vec![name.to_string()]).unwrap();
            params.not_after = rcgen::date_time_ymd(year, 1, 1);
            let leaf = read_chain(params.signed_by(&key, &issuer).unwrap().pem().as_bytes()).unwrap().remove(0);
            Assembled { chain: vec![leaf], missing: None, said: vec![] }
        };
        let made =
            [until("crumbandtide.example", 2030), until("gullrock.example", 2028), until("gullrock.example", 2029)];
        let now = "2026-11-23T07:00:00Z".parse().unwrap();
        let best = |name: &str| best_for(&made, &[Host::parse(name).unwrap()], now);
        assert_eq!(best("gullrock.example"), Some(2));
        assert_eq!(best("crumbandtide.example"), Some(0));
        assert_eq!(best("lanternchoir.example"), Some(0), "then its own refusal is shown");
        assert_eq!(best_for(&[], &[Host::parse("gullrock.example").unwrap()], now), None);
    }

    #[test]
    fn a_leaf_must_cover_the_names_and_be_in_date() {
        let (_, issuer) = authority("Saltmarsh root", None);
        let (leaf, _) = facts_of(&["gullrock.example"], &issuer);
        let names = ["gullrock.example", "www.gullrock.example"].map(|name| Host::parse(name).unwrap());
        let now = "2026-11-23T07:00:00Z".parse().unwrap();
        assert_eq!(check_leaf(&leaf, &names[..1], now), Ok(()));
        assert_eq!(check_leaf(&leaf, &names, now), Err(Unfit::Uncovered("www.gullrock.example".into())));
        assert!(matches!(check_leaf(&leaf, &names[..1], Timestamp::MAX), Err(Unfit::Expired(_))));
        let of_clients = CertificateFacts { is_for_servers: false, ..leaf.clone() };
        assert_eq!(check_leaf(&of_clients, &names[..1], now), Err(Unfit::OtherPurpose));
        let weak = CertificateFacts { key: "RSA 1024".into(), key_bits: 1024, ..leaf };
        assert!(matches!(check_leaf(&weak, &names[..1], now), Err(Unfit::Weak(_))));
    }
}

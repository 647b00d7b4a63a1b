//! The statement of its CA that a certificate demands to be shown with (RFC 7633): whether there has to be one, when
//! it is to be fetched anew, and the change that puts a new one in place.
//!
//! Fetching it is for `brightharbor-io` (`probe/staple.rs`); the site file that names it is in `render`. What of an answer
//! counts is in `ocsp.rs`.

use jiff::{SignedDuration, Timestamp};

use super::{Certificate, CertificateFacts, CertificateFiles, good_term, issuer_in, ocsp_question, read_chain};
use crate::change::{FileWrite, Plan, Purpose};

/// A leaf that demands a statement, and who can make it.
#[derive(Debug, Clone)]
pub struct Demanding {
    leaf: CertificateFacts,
    issuer: CertificateFacts,
}

impl Demanding {
    /// Of the chain of a certificate, PEM; `None` where its leaf demands nothing, or there is nothing to read. `root_of` finds
    /// the root that has signed it, which is in no chain.
    ///
    /// # Errors
    /// In words, where nobody can be asked.
    pub fn of(
        chain_pem: &str,
        root_of: impl Fn(&CertificateFacts) -> Option<CertificateFacts>,
    ) -> Result<Option<Self>, String> {
        let chain = read_chain(chain_pem.as_bytes()).unwrap_or_default();
        let Some(leaf) = chain.first().filter(|leaf| leaf.must_staple) else { return Ok(None) };
        if !leaf.responders_at.iter().any(|address| address.starts_with("http")) {
            return Err("it names no OCSP responder".into());
        }
        let issuer = issuer_in(&chain)
            .cloned()
            .or_else(|| root_of(leaf))
            .ok_or("the certificate of its issuer is missing in the chain")?;
        Ok(Some(Self { leaf: leaf.clone(), issuer }))
    }

    /// Where its CA is asked.
    pub fn responders(&self) -> impl Iterator<Item = &str> {
        self.leaf.responders_at.iter().map(String::as_str).filter(|address| address.starts_with("http"))
    }

    pub fn question(&self) -> Result<Vec<u8>, String> {
        ocsp_question(&self.leaf, &self.issuer)
    }

    /// Refuses an answer that visitors would not take.
    pub fn check(&self, answer: &[u8], now: Timestamp) -> Result<(), String> {
        good_term(answer, &self.leaf, &self.issuer, now).map(|_| ())
    }

    /// How long what is in place goes on to count.
    pub fn standing(&self, in_place: Option<&[u8]>, now: Timestamp) -> StapleStanding {
        let term = in_place.and_then(|answer| good_term(answer, &self.leaf, &self.issuer, now).ok());
        let Some((made, until)) = term else { return StapleStanding::NONE };
        let life = until.duration_since(made);
        StapleStanding {
            due: now >= until - life / 2,
            until: Some(until),
            urgent: now >= until - life / 8,
            asked_every: (life / 8).min(ASKED_EVERY),
        }
    }
}

/// A CA that has nothing newer yet is not asked at every run.
const ASKED_EVERY: SignedDuration = SignedDuration::from_hours(1);

/// How it stands with the statement in place.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct StapleStanding {
    /// Half its time is over: there may be a newer one.
    pub due: bool,
    /// Until when it counts; `None`: there is none that does.
    pub until: Option<Timestamp>,
    /// Little is left of its time.
    pub urgent: bool,
    /// How often its CA is asked for a newer one.
    pub asked_every: SignedDuration,
}

impl StapleStanding {
    /// Visitors are refused.
    pub const NONE: Self = Self { due: true, until: None, urgent: true, asked_every: SignedDuration::ZERO };
}

/// One that was fetched for a certificate in place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewStaple {
    pub files: CertificateFiles,
    pub before: Option<Vec<u8>>,
    pub answer: Vec<u8>,
}

/// Decides that new statements take the place of old ones. A certificate that was replaced meanwhile needs none.
pub fn place_staples(new: &[NewStaple], present: &[Certificate]) -> Plan {
    let in_place = |one: &&NewStaple| present.iter().any(|certificate| certificate.files == one.files);
    let placed: Vec<&NewStaple> = new.iter().filter(in_place).collect();
    let mut plan = Plan::new(match placed.len() {
        1 => "tend: what its CA states of a certificate".to_string(),
        count => format!("tend: what CAs state of {count} certificates"),
    });
    for one in placed {
        let (path, before) = (one.files.staple(), one.before.clone());
        plan.set.file(FileWrite::new(path, before, one.answer.clone(), 0o600, Purpose::Staple));
    }
    plan
}

#[cfg(test)]
mod tests {
    use rcgen::{BasicConstraints, CertificateParams, CustomExtension, IsCa, Issuer, KeyPair};

    use super::*;

    /// What OpenSSL's responder said on 2026-11-28 at 06:28:52, for a day.
    const GOOD: &[u8] = include_bytes!("ocsp_answers/good.der");
    const REVOKED: &[u8] = include_bytes!("ocsp_answers/revoked.der");

    fn asked() -> Demanding {
        let read = |pem: &[u8]| read_chain(pem).unwrap().remove(0);
        Demanding {
            leaf: read(include_bytes!("ocsp_answers/leaf.pem")),
            issuer: read(include_bytes!("ocsp_answers/ca.pem")),
        }
    }

    fn standing(answer: Option<&[u8]>, now: &str) -> (bool, bool, bool) {
        let standing = asked().standing(answer, now.parse().unwrap());
        (standing.due, standing.urgent, standing.until.is_some())
    }

    #[test]
    fn one_is_due_when_half_its_time_is_over_and_urgent_near_its_end() {
        assert_eq!(standing(Some(GOOD), "2026-11-28T18:28:51Z"), (false, false, true));
        assert_eq!(standing(Some(GOOD), "2026-11-28T18:28:52Z"), (true, false, true));
        assert_eq!(standing(Some(GOOD), "2026-11-29T03:28:51Z"), (true, false, true));
        assert_eq!(standing(Some(GOOD), "2026-11-29T03:28:52Z"), (true, true, true));
        assert_eq!(standing(Some(GOOD), "2026-11-29T06:28:53Z"), (true, true, false), "over");
        assert_eq!(standing(None, "2026-11-28T12:00:00Z"), (true, true, false));
        assert_eq!(standing(Some(REVOKED), "2026-11-28T12:00:00Z"), (true, true, false), "no visitor takes it");
        assert!(asked().check(REVOKED, "2026-11-28T12:00:00Z".parse().unwrap()).unwrap_err().contains("revoked"));
    }

    /// A chain whose leaf has these extensions.
    fn chain(extensions: Vec<CustomExtension>, with_issuer: bool) -> String {
        let key = KeyPair::generate().unwrap();
        let mut params = CertificateParams::new(vec![]).unwrap();
        params.distinguished_name.push(rcgen::DnType::CommonName, "Saltmarsh root");
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        let root = params.self_signed(&key).unwrap().pem();
        let issuer = Issuer::new(params, key);
        let mut params = CertificateParams::new(vec!["gullrock.example".into()]).unwrap();
        params.custom_extensions = extensions;
        let leaf = params.signed_by(&KeyPair::generate().unwrap(), &issuer).unwrap().pem();
        if with_issuer { leaf + &root } else { leaf }
    }

    #[test]
    fn one_of_short_life_is_asked_for_more_often() {
        let now = "2026-11-28T12:00:00Z".parse().unwrap();
        assert_eq!(asked().standing(Some(GOOD), now).asked_every, SignedDuration::from_hours(1), "an eighth is three");
        assert_eq!(asked().standing(None, now).asked_every, SignedDuration::ZERO);
    }

    #[test]
    fn a_leaf_that_demands_one_says_whom_to_ask() {
        let feature = || CustomExtension::from_oid_content(&[1, 3, 6, 1, 5, 5, 7, 1, 24], vec![0x30, 3, 2, 1, 5]);
        // AuthorityInfoAccess with one OCSP responder, http://a/ (RFC 5280 section 4.2.2.1).
        let access = || {
            let text = b"http://a/";
            let mut method = vec![0x06, 8, 0x2b, 6, 1, 5, 5, 7, 0x30, 1, 0x86, text.len() as u8];
            method.extend(text);
            let inner = [&[0x30, method.len() as u8][..], &method].concat();
            let content = [&[0x30, inner.len() as u8][..], &inner].concat();
            CustomExtension::from_oid_content(&[1, 3, 6, 1, 5, 5, 7, 1, 1], content)
        };
        let of = |chain: &str| Demanding::of(chain, |_| None);
        assert!(of(&chain(vec![access()], true)).unwrap().is_none());
        assert!(of("no certificate").unwrap().is_none());
        assert!(of(&chain(vec![feature()], true)).unwrap_err().contains("no OCSP responder"));
        assert!(of(&chain(vec![feature(), access()], false)).unwrap_err().contains("issuer is missing"));
        let alone = chain(vec![feature(), access()], false);
        let root = read_chain(alone.as_bytes()).unwrap().remove(0);
        assert!(Demanding::of(&alone, |_| Some(root.clone())).unwrap().is_some(), "a root is in no chain");
        let demanding = of(&chain(vec![feature(), access()], true)).unwrap().unwrap();
        assert_eq!(demanding.responders().collect::<Vec<_>>(), ["http://a/"]);
    }
}

//! What a seller of certificates demands before it sells: a file at a path, or a record that it names. Kept with the
//! site for as long as it is in place.
//!
//! Proofs for a CA of RFC 8555 are `acme`'s; carrying a demand out, and taking it away, are the command's.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::change::content_hash;
use crate::name::{DnsName, Host, Hostname, registrable_domain};
use crate::render::{FINGERPRINT_PATH, PROOF_PATH};
use crate::site::Site;
use crate::zone::{AlterRequest, Alteration, Meant, RecordData, RecordType, TypedError, data_as_meant, owner_as_meant};

/// Where sellers look for files, if they name no path: agreed upon among CAs (RFC 5785's folder, and their own name).
pub const USUAL_FOLDER: &str = "/.well-known/pki-validation/";
/// Sellers' files hold a few lines, in bytes.
pub const MOST_CONTENT: usize = 16 * 1024;

/// One demand, in place until a certificate was imported, or until its day is over.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Demand {
    pub until: Timestamp,
    pub proof: DemandedProof,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum DemandedProof {
    /// Shown by the web server at this path of every hostname of the site, whatever redirects there are.
    File { path: String, content: String },
    /// A CNAME or TXT record.
    Record { owner: DnsName, data: RecordData },
}

#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum DemandError {
    #[error("the path `{0}` must begin with / and name a file")]
    NoFile(String),
    #[error("the path `{path}` has the character {character:?}; letters, digits and . _ ~ - are taken")]
    Character { path: String, character: char },
    #[error("the path `{0}` has `.`, `..` or nothing between its slashes")]
    Dots(String),
    #[error("the path `{0}` answers for other certificates and checks")]
    Reserved(String),
    #[error("the path `{0}` is that of a front page, which it would take the place of")]
    FrontPage(String),
    #[error("the file is empty")]
    Empty,
    #[error("the file is larger than {} KiB, which no seller's is", MOST_CONTENT / 1024)]
    TooLarge,
    #[error("the file is not text")]
    NoText,
    #[error("`{0}` is not a record: give it as \"NAME CNAME TARGET\" or \"NAME TXT TEXT\"")]
    NoRecord(String),
    #[error("a {0} record proves nothing to a seller; CNAME and TXT do")]
    OtherType(RecordType),
    #[error("a site by address has no name that a record could stand at; give a file")]
    Nameless,
    #[error("{owner} is not a name of {domains}")]
    OtherDomain { owner: String, domains: String },
    #[error(transparent)]
    Typed(#[from] TypedError),
}

impl DemandedProof {
    /// A file's content at a path.
    pub fn file(path: &str, content: &[u8]) -> Result<Self, DemandError> {
        if content.trim_ascii().is_empty() {
            return Err(DemandError::Empty);
        }
        if content.len() > MOST_CONTENT {
            return Err(DemandError::TooLarge);
        }
        let text = std::str::from_utf8(content).ok().filter(|text| !text.contains('\0')).ok_or(DemandError::NoText)?;
        Ok(Self::File { path: check_path(path)?, content: text.to_string() })
    }

    /// A record as sellers write it: owner, type, data; a TTL and the class in between are passed over.
    pub fn record(typed: &str, site: &Site) -> Result<Meant<Self>, DemandError> {
        let no_record = || DemandError::NoRecord(typed.chars().take(80).flat_map(char::escape_debug).collect());
        let mut rest = typed.trim();
        let mut word = || {
            let (word, after) = rest.split_once(char::is_whitespace)?;
            rest = after.trim_start();
            Some(word)
        };
        let owner = word().ok_or_else(no_record)?;
        let kind = loop {
            let word = word().ok_or_else(no_record)?;
            if !word.eq_ignore_ascii_case("IN") && !word.bytes().all(|byte| byte.is_ascii_digit()) {
                break word;
            }
        };
        let kind = RecordType::parse(kind).ok_or_else(no_record)?;
        if ![RecordType::CNAME, RecordType::TXT].contains(&kind) {
            return Err(DemandError::OtherType(kind));
        }
        let domains = domains(site);
        if domains.is_empty() {
            return Err(DemandError::Nameless);
        }
        let zone = domain_of(owner, &domains).ok_or_else(|| DemandError::OtherDomain {
            owner: owner.escape_debug().to_string(),
            domains: domains.iter().map(Hostname::as_str).collect::<Vec<_>>().join(" or "),
        })?;
        let owner = owner_as_meant(owner, &zone)?;
        let data = data_as_meant(rest, kind, &zone)?;
        let said = owner.said.into_iter().chain(data.said).collect();
        Ok(Meant { value: Self::Record { owner: owner.value, data: data.value }, said })
    }

    /// What puts a record into its zone, or takes it out again.
    pub fn request(&self, add: bool) -> Option<AlterRequest> {
        let Self::Record { owner, data } = self else { return None };
        let data = vec![data.clone()];
        let alteration = if add { Alteration::Add { ttl: None, data } } else { Alteration::Remove { data } };
        Some(AlterRequest { owner: owner.clone(), record_type: record_type(self), alteration })
    }

    /// Whether both say something about the same path, so that only one of them can be in place.
    pub fn displaces(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::File { path, .. }, Self::File { path: other, .. }) => path == other,
            _ => self == other,
        }
    }
}

fn record_type(proof: &DemandedProof) -> RecordType {
    match proof {
        DemandedProof::Record { data: RecordData::Cname(_), .. } => RecordType::CNAME,
        _ => RecordType::TXT,
    }
}

impl Site {
    /// The files that sellers demand, by path, with their content and the names they lie under in the harbor.
    pub fn demanded_files(&self) -> impl Iterator<Item = (&str, &str, String)> {
        self.rules.demands.iter().filter_map(|demand| match &demand.proof {
            DemandedProof::File { path, content } => {
                let whole = format!("{}\n{path}\n{content}", self.main());
                // Beside the proofs of orders, whose names have no dot.
                let name = format!("demanded.{}", &content_hash(whole.as_bytes())[..32]);
                Some((path.as_str(), content.as_str(), name))
            }
            DemandedProof::Record { .. } => None,
        })
    }
}

/// The registrable domains of a site's names.
fn domains(site: &Site) -> Vec<Hostname> {
    let mut domains: Vec<Hostname> = Vec::new();
    for name in site.hostnames.iter().filter_map(Host::name) {
        let domain = registrable_domain(name).unwrap_or_else(|| name.clone());
        if !domains.contains(&domain) {
            domains.push(domain);
        }
    }
    domains
}

/// The domain that a typed owner lies in. One without any of them behind it is a label below the first, unless it looks
/// like a name of somewhere else.
fn domain_of(owner: &str, domains: &[Hostname]) -> Option<DnsName> {
    let within = |domain: &&Hostname| {
        let full = DnsName::absolute(owner.trim_end_matches('.'));
        full.is_ok_and(|full| full.is_within(&domain.dns_name()))
    };
    let named = domains.iter().find(within);
    let single = || domains.first().filter(|_| !owner.contains('.') || owner == "@");
    named.or_else(single).map(Hostname::dns_name)
}

fn check_path(path: &str) -> Result<String, DemandError> {
    let shown = || path.chars().take(120).flat_map(char::escape_debug).collect::<String>();
    if !path.starts_with('/') || path.ends_with('/') || path.len() > 250 {
        return Err(DemandError::NoFile(shown()));
    }
    let fits = |c: char| c.is_ascii_alphanumeric() || "/._~-".contains(c);
    if let Some(character) = path.chars().find(|c| !fits(*c)) {
        return Err(DemandError::Character { path: shown(), character });
    }
    if path[1..].split('/').any(|part| matches!(part, "" | "." | "..")) {
        return Err(DemandError::Dots(shown()));
    }
    if path.starts_with(PROOF_PATH) || format!("{path}/") == PROOF_PATH || path == FINGERPRINT_PATH {
        return Err(DemandError::Reserved(shown()));
    }
    if path.ends_with("/index.html") || path.ends_with("/index.htm") {
        return Err(DemandError::FrontPage(shown()));
    }
    Ok(path.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::AccountName;
    use crate::site::{HttpsStates, SiteKind, SiteRules};

    fn site() -> Site {
        Site {
            account: AccountName::parse("boatyard").unwrap(),
            hostnames: ["gullrock.example", "www.gullrock.example", "yard.lanternchoir.example"]
                .map(|name| Host::parse(name).unwrap())
                .to_vec(),
            document_root: "/home/boatyard/www/gullrock.example".into(),
            kind: SiteKind::AddonDomain,
            https: HttpsStates::default(),
            certificate: None,
            rules: SiteRules::default(),
        }
    }

    fn record(typed: &str) -> Result<String, String> {
        match DemandedProof::record(typed, &site()).map(|meant| meant.value) {
            Ok(DemandedProof::Record { owner, data }) => Ok(format!("{owner} {data}")),
            Ok(other) => panic!("{other:?}"),
            Err(error) => Err(error.to_string()),
        }
    }

    #[test]
    fn records_as_sellers_write_them() {
        let cname = "_5f3a.gullrock.example. 9c1e.seller.example.";
        for typed in [
            "_5f3a.gullrock.example. CNAME 9c1e.seller.example.",
            "_5f3a.gullrock.example CNAME 9c1e.seller.example",
            "  _5f3a   3600 IN CNAME 9c1e.seller.example.",
        ] {
            assert_eq!(record(typed).unwrap(), cname, "{typed}");
        }
        assert_eq!(record("@ TXT seller-check=7d1").unwrap(), "gullrock.example. \"seller-check=7d1\"");
        let other = record("_x.lanternchoir.example TXT \"two words\"").unwrap();
        assert_eq!(other, "_x.lanternchoir.example. \"two words\"");
    }

    #[test]
    fn what_proves_nothing_is_refused() {
        for (typed, words) in [
            ("gullrock.example A 192.0.2.7", "CNAME and TXT do"),
            ("_x.crumbandtide.example TXT y", "not a name of gullrock.example or lanternchoir.example"),
            ("gullrock.example", "is not a record"),
            ("gullrock.example TXT", "is not a record"),
            ("x NOTYPE y", "is not a record"),
        ] {
            let refused = record(typed).unwrap_err();
            assert!(refused.contains(words), "{typed}: {refused}");
        }
    }

    #[test]
    fn files_lie_where_no_server_file_is_hurt() {
        let file = |path: &str, content: &[u8]| DemandedProof::file(path, content);
        assert!(file("/.well-known/pki-validation/8F2C.txt", b"8F2C\nseller.example\n").is_ok());
        assert!(matches!(file("check.txt", b"x"), Err(DemandError::NoFile(_))));
        assert!(matches!(file("/folder/", b"x"), Err(DemandError::NoFile(_))));
        assert!(matches!(file("/a/../b", b"x"), Err(DemandError::Dots(_))));
        assert!(matches!(file("/.well-known/acme-challenge/t", b"x"), Err(DemandError::Reserved(_))));
        assert!(matches!(file("/.well-known/bright-harbor", b"x"), Err(DemandError::Reserved(_))));
        assert!(matches!(file("/boats/index.html", b"x"), Err(DemandError::FrontPage(_))));
        for character in ['"', '$', ' ', ';', '{', '\n', '%', '\\', '?'] {
            let refused = file(&format!("/a{character}b"), b"x");
            assert!(matches!(refused, Err(DemandError::Character { character: c, .. }) if c == character));
        }
        assert_eq!(file("/a", b" \n"), Err(DemandError::Empty));
        assert_eq!(file("/a", &[b'x'; MOST_CONTENT + 1]), Err(DemandError::TooLarge));
        assert_eq!(file("/a", b"\xff\xfe"), Err(DemandError::NoText));
    }

    #[test]
    fn one_path_has_one_file_and_each_content_another_name() {
        let of = |content: &[u8]| DemandedProof::file("/a.txt", content).unwrap();
        assert!(of(b"one").displaces(&of(b"two")));
        let mut site = site();
        let until = Timestamp::UNIX_EPOCH;
        site.rules.demands = vec![Demand { until, proof: of(b"one") }, Demand { until, proof: of(b"two") }];
        let names: Vec<String> = site.demanded_files().map(|(_, _, name)| name).collect();
        assert_ne!(names[0], names[1]);
        assert_eq!(names[0].len(), "demanded.".len() + 32);
    }
}

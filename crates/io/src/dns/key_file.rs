//! The usual file of a transaction key (TSIG, RFC 8945): `key "name" { algorithm hmac-sha256; secret "…"; };`.
//!
//! The secret stays inside [`TransactionKey`]: it is never shown, logged or written anywhere.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use base64::Engine;
use base64::prelude::BASE64_STANDARD;
use domain::tsig::{Algorithm, Key};
use zeroize::Zeroizing;

use crate::install::{FolderError, read_regular, rely_on};

/// A file with one key is much shorter.
const MOST_BYTES: usize = 64 << 10;

/// Why a key file is of no use.
#[derive(Debug, thiserror::Error)]
pub enum KeyFileError {
    #[error("the key file {0}: {1}")]
    Read(PathBuf, std::io::Error),
    #[error("key file: {0}")]
    Loose(FolderError),
    #[error("the key file {path} has the mode {mode:o}: others than its owner can read it")]
    Open { path: PathBuf, mode: u32 },
    #[error("the key file {path}:{line}: {problem}")]
    Wrong { path: PathBuf, line: usize, problem: &'static str },
}

/// A key that requests are signed with and answers are verified by.
#[derive(Clone)]
pub struct TransactionKey {
    pub(super) key: Arc<Key>,
}

impl TransactionKey {
    /// Reads a key file that only its owner can read.
    pub fn read(path: &Path) -> Result<Self, KeyFileError> {
        let failed = |error| KeyFileError::Read(path.to_path_buf(), error);
        let mode = fs::metadata(path).map_err(failed)?.permissions().mode() & 0o7777;
        if mode & 0o077 != 0 {
            return Err(KeyFileError::Open { path: path.to_path_buf(), mode });
        }
        rely_on(path).map_err(KeyFileError::Loose)?;
        let text = read_regular(path, MOST_BYTES).map_err(failed)?;
        let text = Zeroizing::new(String::from_utf8_lossy(&text).into_owned());
        parse(&text).map_err(|(line, problem)| KeyFileError::Wrong { path: path.to_path_buf(), line, problem })
    }

    /// The name under which the server knows the key.
    pub fn name(&self) -> String {
        self.key.name().to_string()
    }
}

impl std::fmt::Debug for TransactionKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "TransactionKey({})", self.name())
    }
}

fn parse(text: &str) -> Result<TransactionKey, (usize, &'static str)> {
    let words = words(text);
    let mut rest = words.iter().map(|(line, word)| (*line, word.as_str()));
    let mut next = |expected: Option<&str>, problem: &'static str| match rest.next() {
        Some((line, word)) if expected.is_none_or(|expected| word == expected) => Ok((line, word.to_string())),
        Some((line, _)) => Err((line, problem)),
        None => Err((words.last().map_or(1, |(line, _)| *line), problem)),
    };
    const FORM: &str = "expected `key \"NAME\" { algorithm hmac-sha256; secret \"BASE64\"; };`";
    next(Some("key"), FORM)?;
    let (line, name) = next(None, FORM)?;
    let name = name.to_ascii_lowercase().parse().map_err(|_| (line, "the name of the key is not a domain name"))?;
    next(Some("{"), FORM)?;
    let (mut algorithm, mut secret) = (None, None);
    loop {
        let (line, word) = next(None, FORM)?;
        match word.as_str() {
            "}" => break,
            "algorithm" => {
                let (line, word) = next(None, FORM)?;
                algorithm = Some(match word.to_ascii_lowercase().trim_end_matches('.') {
                    "hmac-sha256" => Algorithm::Sha256,
                    "hmac-sha384" => Algorithm::Sha384,
                    "hmac-sha512" => Algorithm::Sha512,
                    _ => return Err((line, "the algorithm is none of hmac-sha256, hmac-sha384, hmac-sha512")),
                });
            }
            "secret" => {
                let (line, word) = next(None, FORM)?;
                let bytes = BASE64_STANDARD.decode(word).map_err(|_| (line, "the secret is not base64"))?;
                secret = Some(bytes).filter(|bytes| !bytes.is_empty());
            }
            _ => return Err((line, FORM)),
        }
        next(Some(";"), "a `;` is missing")?;
    }
    let algorithm = algorithm.ok_or((line, "the algorithm is missing"))?;
    let secret = secret.ok_or((line, "the secret is missing"))?;
    let key = Key::new(algorithm, &secret, name, None, None).map_err(|_| (line, "the key cannot be used"))?;
    Ok(TransactionKey { key: Arc::new(key) })
}

/// The words with their lines; quotes are taken off, comments (`//`, `#`, `/* */`) are passed over.
fn words(text: &str) -> Vec<(usize, String)> {
    let mut words = Vec::new();
    let mut line = 1;
    let mut rest = text;
    while let Some(first) = rest.chars().next() {
        let end = if rest.starts_with("//") || first == '#' {
            rest.find('\n').unwrap_or(rest.len())
        } else if rest.starts_with("/*") {
            rest.find("*/").map_or(rest.len(), |at| at + 2)
        } else if first == '"' {
            let end = rest[1..].find('"').map_or(rest.len(), |at| at + 1);
            words.push((line, rest[1..end].to_string()));
            (end + 1).min(rest.len())
        } else if "{};".contains(first) {
            words.push((line, first.to_string()));
            1
        } else if first.is_whitespace() {
            first.len_utf8()
        } else {
            let end = rest.find(|c: char| c.is_whitespace() || "{};\"".contains(c)).unwrap_or(rest.len());
            words.push((line, rest[..end].to_string()));
            end
        };
        line += rest[..end].matches('\n').count();
        rest = &rest[end..];
    }
    words
}

#[cfg(test)]
mod tests {
    use super::*;

    const KEY: &str = "// of the boatyard\nkey \"Quay.Transfer\" {\n\talgorithm hmac-sha512; /* long */\n\
                       \tsecret \"c2FsdG1hcnNoIHRlc3Qga2V5\";\n};\n";

    #[test]
    fn the_usual_form_is_read_and_the_secret_is_never_shown() {
        let key = parse(KEY).unwrap();
        assert_eq!((key.name().as_str(), key.key.algorithm()), ("quay.transfer", Algorithm::Sha512));
        assert_eq!(format!("{key:?}"), "TransactionKey(quay.transfer)");
    }

    #[test]
    fn what_is_wrong_is_told_with_its_line_and_never_panics() {
        let wrong = |old: &str, new: &str| parse(&KEY.replace(old, new)).unwrap_err();
        assert_eq!(wrong("hmac-sha512", "hmac-md5").0, 3);
        assert_eq!(wrong("c2Fs", "c2F*"), (4, "the secret is not base64"));
        assert_eq!(wrong("algorithm hmac-sha512;", ""), (2, "the algorithm is missing"));
        assert_eq!(wrong("};", ";").0, 5);
        for end in 0..KEY.len() {
            assert!(parse(&KEY[..end]).is_err() || end > KEY.len() - 4, "{end}");
        }
    }

    #[test]
    fn a_file_that_others_can_read_is_refused() {
        let file = tempfile::NamedTempFile::new().unwrap();
        fs::write(file.path(), KEY).unwrap();
        fs::set_permissions(file.path(), fs::Permissions::from_mode(0o640)).unwrap();
        assert!(matches!(TransactionKey::read(file.path()), Err(KeyFileError::Open { mode: 0o640, .. })));
        fs::set_permissions(file.path(), fs::Permissions::from_mode(0o600)).unwrap();
        assert!(TransactionKey::read(file.path()).is_ok());
    }
}

//! Keys that were locked in the way of PEM for mail (RFC 1421), as OpenSSL wrote them for decades: header lines name the
//! cipher, and one round of MD5 makes its key. Weak, and what many keys that people have kept are locked with.

use aes::{Aes128, Aes192, Aes256};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use cbc::Decryptor;
use cbc::cipher::block_padding::Pkcs7;
use cbc::cipher::{BlockCipherDecrypt, BlockModeDecrypt, KeyInit, KeyIvInit};
use des::{Des, TdesEde3};
use md5::{Digest, Md5};
use zeroize::Zeroizing;

use super::locked::{Unlocked, is_one_element};

/// The line that begins the headers (RFC 1421 section 4.6.1.1).
pub(super) const MARK: &str = "Proc-Type: 4,ENCRYPTED";
/// Keys have a few thousand bytes.
const MOST_BYTES: usize = 64 * 1024;

/// One locked section, cut out of its text.
pub(super) struct OldLock<'a> {
    pub label: &'a str,
    headers: &'a str,
    body: &'a str,
    /// What stands before and behind it.
    pub around: (&'a str, &'a str),
}

/// The first section that is locked in this way, if there is one.
pub(super) fn first_in(text: &str) -> Option<OldLock<'_>> {
    let mark = text.find(MARK)?;
    let begin = text[..mark].rfind("-----BEGIN ")?;
    let label = text[begin..mark].strip_prefix("-----BEGIN ")?.split("-----").next()?;
    let end_line = format!("-----END {label}-----");
    let end = mark + text[mark..].find(&end_line)?;
    let behind = &text[end + end_line.len()..];
    // The headers end with an empty line (RFC 1421 section 4.4).
    let (headers, body) = text[mark..end].split_once("\n\n")?;
    Some(OldLock { label, headers, body, around: (&text[..begin], behind) })
}

impl OldLock<'_> {
    /// The key inside, DER of whatever kind its label says.
    pub fn open(&self, password: Option<&str>) -> Result<Zeroizing<Vec<u8>>, Unlocked> {
        let broken = |what: &str| Unlocked::Broken(what.to_string());
        let told = self.headers.lines().find_map(|line| line.strip_prefix("DEK-Info:"));
        let (cipher, vector) =
            told.and_then(|told| told.trim().split_once(',')).ok_or_else(|| broken("no line says how it is locked"))?;
        let vector = octets(vector.trim()).ok_or_else(|| broken("its initialization vector is not hexadecimal"))?;
        let body: String = self.body.split_whitespace().collect();
        let locked = STANDARD.decode(body).map_err(|_| broken("it is not base64"))?;
        if locked.len() > MOST_BYTES {
            return Err(broken("it is larger than any key"));
        }
        let Some(password) = password else { return Err(Unlocked::Password) };
        let with = Lock { vector: &vector, password: password.as_bytes(), locked: &locked };
        let opened = match cipher.trim() {
            "DES-CBC" => with.open::<Des>(8),
            "DES-EDE3-CBC" => with.open::<TdesEde3>(24),
            "AES-128-CBC" => with.open::<Aes128>(16),
            "AES-192-CBC" => with.open::<Aes192>(24),
            "AES-256-CBC" => with.open::<Aes256>(32),
            other => {
                let other: String = other.chars().take(40).flat_map(char::escape_debug).collect();
                return Err(Unlocked::Broken(format!("it is locked with {other}, which is not opened here")));
            }
        };
        // A wrong password gives noise, now and then with an end that could be one.
        opened.filter(|der| is_one_element(der)).ok_or(Unlocked::Password)
    }
}

struct Lock<'a> {
    vector: &'a [u8],
    password: &'a [u8],
    locked: &'a [u8],
}

impl Lock<'_> {
    fn open<C: BlockCipherDecrypt + KeyInit>(&self, key_length: usize) -> Option<Zeroizing<Vec<u8>>> {
        let salt = self.vector.get(..8)?;
        let mut key = Zeroizing::new(Vec::with_capacity(48));
        let mut block = Zeroizing::new(Vec::new());
        while key.len() < key_length {
            let hash = Md5::new().chain_update(&*block).chain_update(self.password).chain_update(salt).finalize();
            *block = hash.to_vec();
            key.extend_from_slice(&block);
        }
        let decryptor = Decryptor::<C>::new_from_slices(&key[..key_length], self.vector).ok()?;
        decryptor.decrypt_padded_vec::<Pkcs7>(self.locked).ok().map(Zeroizing::new)
    }
}

fn octets(hex: &str) -> Option<Vec<u8>> {
    if !hex.is_ascii() || !hex.len().is_multiple_of(2) || hex.len() > 64 {
        return None;
    }
    (0..hex.len()).step_by(2).map(|at| u8::from_str_radix(&hex[at..at + 2], 16).ok()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// `openssl rsa -traditional -des3 -passout pass:quay`, on a key of 512 bits that locks nothing.
    const LOCKED: &str = include_str!("old_lock_des3.pem");

    fn open(text: &str, password: Option<&str>) -> Result<usize, Unlocked> {
        first_in(text).unwrap().open(password).map(|der| der.len())
    }

    #[test]
    fn what_openssl_has_locked_is_opened_with_its_password_alone() {
        assert!(open(LOCKED, Some("quay")).unwrap() > 300);
        assert_eq!(open(LOCKED, Some("Quay")), Err(Unlocked::Password));
        assert_eq!(open(LOCKED, None), Err(Unlocked::Password));
        let around = format!("before\n{LOCKED}behind");
        let lock = first_in(&around).unwrap();
        assert_eq!((lock.around.0, lock.around.1.trim()), ("before\n", "behind"));
    }

    #[test]
    fn broken_headers_are_told() {
        let broken = |from: &str, to: &str| match open(&LOCKED.replacen(from, to, 1), Some("quay")) {
            Err(Unlocked::Broken(what)) => what,
            other => panic!("{other:?}"),
        };
        assert!(broken("DEK-Info:", "Dek:").contains("how it is locked"));
        assert!(broken("DES-EDE3-CBC,", "RC2-CBC,").contains("RC2-CBC"));
        assert!(broken("DES-EDE3-CBC,", "DES-EDE3-CBC,zz").contains("hexadecimal"));
        assert_eq!(open(&LOCKED.replacen("CBC,", "CBC,00", 1), Some("quay")), Err(Unlocked::Password));
        assert!(first_in("Proc-Type: 4,ENCRYPTED").is_none());
        assert!(first_in(&LOCKED.replace("-----END", "-----and")).is_none());
    }
}

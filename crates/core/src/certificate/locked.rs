//! What is locked with a password: PKCS#12 archives (RFC 7292) and encrypted keys (PKCS#8, RFC 5958 section 3).
//!
//! A hostile file can demand any amount of work for its key: how much it demands is looked at first, and bounded.

use p12_keystore::Pkcs12Archive;
use p12_keystore::error::Error;
use pkcs8::EncryptedPrivateKeyInfoRef;
use zeroize::Zeroizing;

/// Rounds of the key derivation; programs use some hundred thousand at most.
const MOST_ROUNDS: u64 = 10_000_000;
/// Cost times block size of scrypt (RFC 7914), in bytes of memory divided by 128.
const MOST_SCRYPT: u64 = 1 << 20;
/// Files with more nesting are not made by any program.
const DEEPEST: usize = 24;

/// Why it could not be unlocked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Unlocked {
    /// There is no password, or it is another one.
    Password,
    Broken(String),
}

/// The keys (PKCS#8, DER) and certificates (DER) of an archive, and whether its integrity is protected at all.
pub(super) struct Archive {
    pub keys: Vec<Zeroizing<Vec<u8>>>,
    pub certificates: Vec<Vec<u8>>,
    pub is_protected: bool,
}

/// Whether it looks like a PKCS#12 archive: a sequence that begins with version 3 and a content type.
pub(super) fn is_archive(der: &[u8]) -> bool {
    let Some((0x30, content, _)) = element(der) else { return false };
    let Some((0x02, [3], rest)) = element(content) else { return false };
    matches!(element(rest), Some((0x30, inner, _)) if matches!(element(inner), Some((0x06, ..))))
}

/// Opens an archive; one without a password has the empty one.
pub(super) fn open_archive(der: &[u8], password: Option<&str>) -> Result<Archive, Unlocked> {
    refuse_excess(der)?;
    let opened = Pkcs12Archive::from_pkcs12(der, password.unwrap_or_default()).map_err(|error| match error {
        Error::MacError(_) | Error::Pkcs5Error(_) | Error::UnpadError => Unlocked::Password,
        _ => Unlocked::Broken("it is damaged, or locked in a way that is not known".into()),
    })?;
    let parts = element(der).map(|(_, content, _)| children(content)).unwrap_or_default();
    Ok(Archive {
        keys: opened.keys.iter().map(|bag| Zeroizing::new(bag.key.as_der().to_vec())).collect(),
        certificates: opened.certs.iter().map(|bag| bag.cert.as_der().to_vec()).collect(),
        is_protected: parts.len() > 2,
    })
}

/// Whether it is an encrypted key.
pub(super) fn is_locked_key(der: &[u8]) -> bool {
    EncryptedPrivateKeyInfoRef::try_from(der).is_ok()
}

/// The key (PKCS#8, DER) out of an encrypted one.
pub(super) fn open_key(der: &[u8], password: Option<&str>) -> Result<Zeroizing<Vec<u8>>, Unlocked> {
    let Some(password) = password else { return Err(Unlocked::Password) };
    refuse_excess(der)?;
    let locked = EncryptedPrivateKeyInfoRef::try_from(der).map_err(|_| Unlocked::Broken("it is damaged".into()))?;
    let opened = locked.decrypt(password).map_err(|_| Unlocked::Password)?;
    Ok(Zeroizing::new(opened.as_bytes().to_vec()))
}

/// In all of these formats the rounds follow the salt: an OCTET STRING, then INTEGERs.
fn refuse_excess(der: &[u8]) -> Result<(), Unlocked> {
    if demands(der, 0) {
        return Err(Unlocked::Broken("it demands more work for its password than any program asks for".into()));
    }
    Ok(())
}

fn demands(der: &[u8], depth: usize) -> bool {
    if depth > DEEPEST {
        return true;
    }
    let parts = children(der);
    for (at, (tag, content)) in parts.iter().enumerate() {
        let numbers: Vec<u64> =
            parts[at + 1..].iter().take_while(|(tag, _)| *tag == 0x02).map(|(_, bytes)| number(bytes)).collect();
        let excess = match numbers[..] {
            [cost, block, _, ..] => cost.saturating_mul(block) > MOST_SCRYPT,
            [rounds, ..] => rounds > MOST_ROUNDS,
            [] => false,
        };
        if *tag == 0x04 && excess {
            return true;
        }
        // Contents lie in octet strings as well.
        let inside = tag & 0x20 != 0 || (*tag == 0x04 && content.first() == Some(&0x30));
        if inside && demands(content, depth + 1) {
            return true;
        }
    }
    false
}

fn number(bytes: &[u8]) -> u64 {
    let significant = bytes.iter().position(|byte| *byte != 0).map_or(&bytes[..0], |first| &bytes[first..]);
    match significant.len() {
        0..=8 => significant.iter().fold(0, |sum, byte| sum << 8 | u64::from(*byte)),
        _ => u64::MAX,
    }
}

/// Whether it is one element with nothing behind it.
pub(super) fn is_one_element(der: &[u8]) -> bool {
    matches!(element(der), Some((0x30, _, [])))
}

/// One element: tag, content, and what follows it (X.690 section 8.1, definite lengths).
fn element(der: &[u8]) -> Option<(u8, &[u8], &[u8])> {
    let (&tag, rest) = der.split_first()?;
    let (&first, rest) = rest.split_first()?;
    let (length, rest) = match first {
        0..=0x7f => (usize::from(first), rest),
        0x81..=0x84 => {
            let (bytes, rest) = rest.split_at_checked(usize::from(first & 0x7f))?;
            (bytes.iter().fold(0, |sum, byte| sum << 8 | usize::from(*byte)), rest)
        }
        _ => return None,
    };
    let (content, rest) = rest.split_at_checked(length)?;
    Some((tag, content, rest))
}

fn children(mut content: &[u8]) -> Vec<(u8, &[u8])> {
    let mut found = Vec::new();
    while let Some((tag, inner, rest)) = element(content) {
        found.push((tag, inner));
        content = rest;
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rounds_beyond_reason_are_seen_wherever_they_stand() {
        // SEQUENCE { OCTET STRING salt, INTEGER 2_000_000_000 }, in an OCTET STRING in a SEQUENCE.
        let parameters = [0x30, 0x0a, 0x04, 0x02, 1, 2, 0x02, 0x04, 0x77, 0x35, 0x94, 0x00];
        let mut wrapped = vec![0x30, 14, 0x04, 12];
        wrapped.extend(parameters);
        assert!(demands(&parameters, 0) && demands(&wrapped, 0));
        let few = [0x30, 0x08, 0x04, 0x02, 1, 2, 0x02, 0x02, 0x08, 0x00];
        assert!(!demands(&few, 0));
        // scrypt: cost 2^20, block size 8.
        let scrypt = [0x30, 0x0f, 0x04, 0x02, 1, 2, 0x02, 0x03, 0x10, 0, 0, 0x02, 0x01, 8, 0x02, 0x01, 1];
        assert!(demands(&scrypt, 0));
        assert_eq!(
            open_archive(&wrapped, Some("x")).err().map(|error| matches!(error, Unlocked::Broken(_))),
            Some(true)
        );
    }

    #[test]
    fn nothing_is_read_beyond_what_is_there() {
        for bytes in [&[][..], &[0x30], &[0x30, 0x84, 0xff, 0xff, 0xff, 0xff], &[0x30, 0x80, 0, 0], &[0x30, 2, 0x04, 9]]
        {
            assert!(!is_archive(bytes));
            assert!(!demands(bytes, 0));
            assert!(open_key(bytes, Some("x")).is_err());
        }
        let deep: Vec<u8> = (0..60u8).rev().flat_map(|level| [0x30, 2 * level]).collect();
        assert!(demands(&deep, 0));
    }
}

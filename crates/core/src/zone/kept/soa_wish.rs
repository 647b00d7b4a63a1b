//! Other values for the start of authority of a zone, as they are typed: the mailbox as an address, the times together.

use crate::name::DnsName;
use crate::zone::{Soa, parse_ttl};

/// What was asked for; `None`: as before.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct SoaWish {
    pub primary: Option<DnsName>,
    pub hostmaster: Option<DnsName>,
    /// Refresh, retry, expire and the time for "no such name", in seconds.
    pub times: Option<[u32; 4]>,
}

impl SoaWish {
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }

    /// The start of authority as wished; its serial is for the edit.
    pub fn of(&self, present: &Soa) -> Soa {
        let [refresh, retry, expire, negative_ttl] =
            self.times.unwrap_or([present.refresh, present.retry, present.expire, present.negative_ttl]);
        Soa {
            primary: self.primary.clone().unwrap_or_else(|| present.primary.clone()),
            hostmaster: self.hostmaster.clone().unwrap_or_else(|| present.hostmaster.clone()),
            serial: present.serial,
            refresh,
            retry,
            expire,
            negative_ttl,
        }
    }
}

/// Reads a mailbox: `post@gullrock.example`, or as it stands in a zone, `post.gullrock.example`. A dot before the `@` belongs
/// to the first label (RFC 1035 section 8).
///
/// # Errors
///
/// What was expected instead, in words.
pub fn mailbox(typed: &str) -> Result<DnsName, String> {
    let wrong =
        || format!("`{}` is not a mailbox", typed.chars().take(80).flat_map(char::escape_debug).collect::<String>());
    let name = match typed.split_once('@') {
        None => DnsName::absolute(typed).map_err(|_| wrong())?,
        Some((user, domain)) => {
            let domain = DnsName::absolute(domain).map_err(|_| wrong())?;
            let labels = std::iter::once(user.as_bytes()).chain(domain.labels());
            DnsName::from_labels(labels).map_err(|_| wrong())?
        }
    };
    let labels = name.labels().count();
    let sound =
        labels >= 2 && name.labels().all(|label| !label.is_empty() && !label.iter().any(u8::is_ascii_whitespace));
    if sound { Ok(name) } else { Err(wrong()) }
}

/// Reads four times in one word each, as in `4h 30m 4w 5m`.
///
/// # Errors
///
/// What was expected instead, in words.
pub fn soa_times(typed: &str) -> Result<[u32; 4], String> {
    let times: Option<Vec<u32>> = typed.split_whitespace().map(parse_ttl).collect();
    let wrong = "four times are needed: refresh, retry, expire and that for `no such name`, as in \"4h 30m 4w 5m\"";
    times.and_then(|times| times.try_into().ok()).ok_or_else(|| wrong.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn mailboxes_and_times_as_they_are_typed() {
        assert_eq!(mailbox("post@gullrock.example").unwrap().to_string(), "post.gullrock.example.");
        assert_eq!(mailbox("post.gullrock.example").unwrap().to_string(), "post.gullrock.example.");
        assert_eq!(
            mailbox("harbour.master@gullrock.example").unwrap().to_string(),
            "harbour\\.master.gullrock.example."
        );
        for wrong in ["post", "@gullrock.example", "post@", "a b@gullrock.example", ""] {
            assert!(mailbox(wrong).unwrap_err().contains("is not a mailbox"), "{wrong}");
        }
        assert_eq!(soa_times("4h 30m 4w 300"), Ok([14_400, 1_800, 2_419_200, 300]));
        assert!(
            soa_times("4h 30m 4w").is_err() && soa_times("4h 30m 4w 5m 1").is_err() && soa_times("a b c d").is_err()
        );
    }

    #[test]
    fn what_is_not_wished_for_stays() {
        let name = |text: &str| DnsName::absolute(text).unwrap();
        let present = Soa {
            primary: name("ns1.example"),
            hostmaster: name("host.example"),
            serial: 7,
            refresh: 1,
            retry: 2,
            expire: 3,
            negative_ttl: 4,
        };
        let wish = SoaWish { primary: Some(name("ns2.example")), ..SoaWish::default() };
        assert!(!wish.is_empty() && SoaWish::default().is_empty());
        assert_eq!(wish.of(&present), Soa { primary: name("ns2.example"), ..present.clone() });
        let all = SoaWish { primary: None, hostmaster: Some(name("post.example")), times: Some([5, 6, 7, 8]) };
        let hostmaster = name("post.example");
        let expected = Soa { hostmaster, refresh: 5, retry: 6, expire: 7, negative_ttl: 8, ..present.clone() };
        assert_eq!(all.of(&present), expected);
    }
}

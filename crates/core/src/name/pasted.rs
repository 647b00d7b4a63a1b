//! A hostname as people paste it: out of an address bar, a mail or a table; and names that look much like one.

use std::collections::BTreeSet;

use super::{Hostname, HostnameError};

/// What was made of a pasted text, and what was dropped or changed, in words.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pasted {
    pub hostname: Hostname,
    pub said: Option<String>,
}

/// Reads a hostname with whatever stands around it: scheme, user, port, path, blanks, quotes, a final dot, capitals.
pub fn parse_pasted(typed: &str) -> Result<Pasted, HostnameError> {
    let mut text = typed.trim().trim_matches(['"', '\'', '<', '>', '`', ',', ';']);
    text = text.split_once("://").map_or(text, |(_, rest)| rest);
    text = text.split(['/', '?', '#']).next().unwrap_or_default();
    // Not a mailbox: that is another thing than its domain, which nobody can have meant.
    if !typed.contains("://") && text.contains('@') {
        return Hostname::parse(typed).map(|hostname| Pasted { hostname, said: None });
    }
    text = text.rsplit('@').next().unwrap_or_default();
    if let Some((host, port)) = text.rsplit_once(':')
        && !port.is_empty()
        && port.bytes().all(|byte| byte.is_ascii_digit())
    {
        text = host;
    }
    let hostname = Hostname::parse(text)?;
    let said = (hostname.as_str() != typed).then(|| {
        let shown: String = typed.chars().take(100).flat_map(char::escape_debug).collect();
        match text.is_ascii() {
            true => format!("`{shown}` is taken as {hostname}"),
            false => format!("`{shown}` is taken as {hostname}, as {} is written in the DNS", hostname.international()),
        }
    });
    Ok(Pasted { hostname, said })
}

/// All names that differ from this one's first label by one slip: a letter left out, doubled, swapped or mistaken.
/// Their number depends on the length of the label alone.
pub fn near_misses(domain: &Hostname) -> BTreeSet<Hostname> {
    let Some((label, rest)) = domain.as_str().split_once('.') else { return BTreeSet::new() };
    let letters: Vec<char> = label.chars().collect();
    let mut found = BTreeSet::new();
    let mut take = |letters: &[char]| {
        let text: String = letters.iter().collect();
        found.extend(Hostname::parse(&format!("{text}.{rest}")));
    };
    for at in 0..=letters.len() {
        for letter in ('a'..='z').chain('0'..='9').chain(['-']) {
            let mut more = letters.clone();
            more.insert(at, letter);
            take(&more);
            if at < letters.len() {
                let mut other = letters.clone();
                other[at] = letter;
                take(&other);
            }
        }
        if at < letters.len() {
            let mut fewer = letters.clone();
            fewer.remove(at);
            take(&fewer);
        }
        if at + 1 < letters.len() {
            let mut swapped = letters.clone();
            swapped.swap(at, at + 1);
            take(&swapped);
        }
    }
    found.remove(domain);
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_stands_around_a_name_is_taken_off_and_said() {
        let taken = |typed: &str| parse_pasted(typed).map(|pasted| pasted.hostname.to_string());
        for typed in [
            "gullrock.example",
            " Gullrock.Example. ",
            "https://gullrock.example/boats?x#y",
            "http://me@gullrock.example:8080",
            "\"gullrock.example\",",
            "gullrock.example:443",
            "gullrock.example/",
        ] {
            assert_eq!(taken(typed).unwrap(), "gullrock.example", "{typed}");
        }
        assert_eq!(taken("https://www.bücher.example/").unwrap(), "www.xn--bcher-kva.example");
        assert_eq!(parse_pasted("gullrock.example").unwrap().said, None);
        let said = parse_pasted("HTTPS://Gullrock.example/\u{7}").unwrap().said.unwrap();
        assert_eq!(said, "`HTTPS://Gullrock.example/\\u{7}` is taken as gullrock.example");
        for wrong in [
            "",
            "two names.example",
            "yard@gullrock.example",
            "gullrock",
            "192.0.2.1",
            "[2001:db8::1]:80",
            "7.0",
            "7.0/25.2.0.192.in-addr.arpa",
        ] {
            assert!(parse_pasted(wrong).is_err(), "{wrong}");
        }
    }

    #[test]
    fn one_slip_away() {
        let near = near_misses(&Hostname::parse("gullrock.example").unwrap());
        for slip in ["gulrock.example", "gulllrock.example", "gullrokc.example", "gullrick.example"] {
            assert!(near.contains(&Hostname::parse(slip).unwrap()), "{slip}");
        }
        assert!(!near.contains(&Hostname::parse("gullrock.example").unwrap()) && near.len() < 1000);
    }
}

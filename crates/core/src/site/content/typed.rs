//! What is typed about the parts of a site: `[PATH=]WHAT`, paths, sizes. Refused is what the web servers could not hold
//! alike, or what would stand in the way of a CA's proofs.

use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::path::Path;

use super::{Answering, Upstream};
use crate::harbor::{PathError, check_path};
use crate::render::{FINGERPRINT_PATH, PROOF_PATH};

#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ContentError {
    #[error(
        "`{0}` is not a path of a site: letters, digits, and `/ . _ - ~`, a slash first, and no part that begins with a dot"
    )]
    Path(String),
    #[error("`{0}` is where proofs for CAs are answered from")]
    Proofs(String),
    #[error("`{0}` does not say what is to answer")]
    Unknown(String),
    #[error("`{0}` has no address of a program: a name would have to be looked up before the web server can start")]
    NoAddress(String),
    #[error("`{0}` names a path: a program is asked for the path that the visitor has asked for")]
    PathOfProgram(String),
    #[error("`{0}` is not a version of PHP")]
    Version(String),
    #[error(transparent)]
    Socket(#[from] PathError),
    #[error("`{0}` is not a size")]
    Size(String),
    #[error("`{0}` is no group of directives for `.htaccess`")]
    Group(String),
    #[error("`{0}` is not a name of a page, or an ending")]
    Page(String),
}

/// Reads `[PATH=]WHAT`: `files`, `php:VERSION`, `php:unix:SOCKET`, `php:ADDRESS:PORT`, `http://ADDRESS:PORT`, `unix:SOCKET`,
/// or `off`, which gives `None`: the part is no more. Without a path, it is `/`.
pub fn parse_part(typed: &str) -> Result<(String, Option<Answering>), ContentError> {
    let (path, what) = match typed.split_once('=') {
        Some((path, what)) if path.starts_with('/') => (parse_path(path)?, what),
        _ => ("/".to_string(), typed),
    };
    let by = match what {
        "off" => None,
        "files" => Some(Answering::Files),
        _ => Some(answering(what)?),
    };
    Ok((path, by))
}

fn answering(what: &str) -> Result<Answering, ContentError> {
    if let Some(php) = what.strip_prefix("php:") {
        if let Some(socket) = php.strip_prefix("unix:") {
            return Ok(Answering::PhpAt(socket_at(socket)?));
        }
        if let Ok(address) = php.parse::<SocketAddr>() {
            return Ok(Answering::PhpAt(Upstream::Address(address)));
        }
        let is_version = php.len() <= 8
            && php.split('.').count() <= 3
            && php.split('.').all(|part| !part.is_empty() && part.bytes().all(|byte| byte.is_ascii_digit()));
        return match is_version {
            true => Ok(Answering::Php(php.to_string())),
            false => Err(ContentError::Version(php.to_string())),
        };
    }
    if let Some(socket) = what.strip_prefix("unix:") {
        return Ok(Answering::Program(socket_at(socket)?));
    }
    let Some(authority) = what.strip_prefix("http://") else { return Err(ContentError::Unknown(what.to_string())) };
    let (authority, path) = authority.split_once('/').unwrap_or((authority, ""));
    if !path.is_empty() {
        return Err(ContentError::PathOfProgram(what.to_string()));
    }
    let address = address_of(authority).ok_or_else(|| ContentError::NoAddress(what.to_string()))?;
    Ok(Answering::Program(Upstream::Address(address)))
}

/// `ADDRESS[:PORT]`; `localhost` is this machine, without asking anybody.
fn address_of(authority: &str) -> Option<SocketAddr> {
    let local = |rest: &str| rest.parse().ok().map(|port| SocketAddr::new(IpAddr::V4(Ipv4Addr::LOCALHOST), port));
    match authority.strip_prefix("localhost") {
        Some("") => local("80"),
        Some(port) => local(port.strip_prefix(':')?),
        None => authority
            .parse::<SocketAddr>()
            .ok()
            .or_else(|| authority.trim_matches(['[', ']']).parse::<IpAddr>().ok().map(|ip| SocketAddr::new(ip, 80))),
    }
    .filter(|address| address.port() != 0)
}

fn socket_at(path: &str) -> Result<Upstream, ContentError> {
    check_path(Path::new(path))?;
    // nginx takes what follows a colon for a path of the program, and Apache httpd what follows a bar.
    match path.contains([' ', ',']) {
        true => Err(ContentError::Unknown(format!("unix:{path}"))),
        false => Ok(Upstream::Socket(path.into())),
    }
}

/// A path of a site that a part, a page or a folder may have; a slash at its end is left out.
pub fn parse_path(typed: &str) -> Result<String, ContentError> {
    let wrong = || ContentError::Path(shown(typed));
    let path = typed.trim_end_matches('/');
    if !typed.starts_with('/') || typed.len() > 1_000 || typed.contains("//") {
        return Err(wrong());
    }
    let fits = |c: char| c.is_ascii_alphanumeric() || "/._-~".contains(c);
    if !path.chars().all(fits) {
        return Err(wrong());
    }
    let reserved = |of: &str| Path::new(of).starts_with(if path.is_empty() { "/" } else { path });
    if !path.is_empty() && (reserved(PROOF_PATH.trim_end_matches('/')) || reserved(FINGERPRINT_PATH)) {
        return Err(ContentError::Proofs(typed.to_string()));
    }
    if path.split('/').any(|part| part.starts_with('.')) {
        return Err(wrong());
    }
    Ok(if path.is_empty() { "/".into() } else { path.into() })
}

/// Names of pages or endings of names, with commas between: letters, digits, and `. _ -` behind the first.
pub fn parse_names(typed: &str) -> Result<Vec<String>, ContentError> {
    let names = typed.split(',').map(|name| {
        let name = name.trim();
        let fits = name.starts_with(|c: char| c.is_ascii_alphanumeric() || c == '_')
            && name.chars().all(|c| c.is_ascii_alphanumeric() || "._-".contains(c))
            && name.len() <= 80;
        if fits { Ok(name.to_string()) } else { Err(ContentError::Page(shown(name))) }
    });
    names.collect()
}

fn shown(typed: &str) -> String {
    typed.chars().take(80).flat_map(char::escape_default).collect()
}

/// A size in bytes: `500K`, `20M`, `2G`, by powers of 1024; or bytes alone.
pub fn parse_size(typed: &str) -> Result<u64, ContentError> {
    let wrong = || ContentError::Size(shown(typed));
    let text = typed.trim().to_ascii_uppercase();
    let units = [('K', 10), ('M', 20), ('G', 30)];
    let with_unit = units.iter().find_map(|(unit, shift)| Some((text.strip_suffix(*unit)?, *shift)));
    let (number, shift) = with_unit.unwrap_or((&text, 0));
    let number: u64 = number.parse().map_err(|_| wrong())?;
    let bytes = number.checked_mul(1 << shift).ok_or_else(wrong)?;
    if bytes == 0 || bytes > 1 << 40 { Err(wrong()) } else { Ok(bytes) }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(typed: &str) -> String {
        match parse_part(typed) {
            Ok((path, Some(by))) => format!("{path} {}", by.words()),
            Ok((path, None)) => format!("{path} off"),
            Err(error) => error.to_string().split(':').next().unwrap_or_default().to_string(),
        }
    }

    #[test]
    fn parts_are_read_with_and_without_a_path() {
        assert_eq!(read("php:8.2"), "/ PHP 8.2");
        assert_eq!(read("/blog/=php:unix:/run/php/blog.sock"), "/blog PHP at unix:/run/php/blog.sock");
        assert_eq!(read("php:[::1]:9000"), "/ PHP at [::1]:9000");
        assert_eq!(read("/api=http://localhost:3000/"), "/api the program at 127.0.0.1:3000");
        assert_eq!(read("http://[2001:db8::5]"), "/ the program at [2001:db8::5]:80");
        assert_eq!(read("/app=unix:/run/app.sock"), "/app the program at unix:/run/app.sock");
        assert_eq!((read("files").as_str(), read("/api=off").as_str()), ("/ files", "/api off"));
    }

    #[test]
    fn what_servers_could_not_hold_alike_is_refused() {
        for (typed, why) in [
            ("/a b=files", "`/a b` is not a path of a site"),
            ("/a//b=files", "`/a//b` is not a path of a site"),
            ("/../x=files", "`/../x` is not a path of a site"),
            ("/.git=files", "`/.git` is not a path of a site"),
            ("/.well-known=files", "`/.well-known` is where proofs for CAs are answered from"),
            ("/x\"y=files", "`/x\\\"y` is not a path of a site"),
            ("http://boats.example:80", "`http"),
            ("http://127.0.0.1:3000/base", "`http"),
            ("http://127.0.0.1:0", "`http"),
            ("ftp://127.0.0.1", "`ftp"),
            ("php:8;2", "`8;2` is not a version of PHP"),
            ("php:", "`` is not a version of PHP"),
            ("unix:run/app.sock", "the path `run/app.sock` must be absolute"),
            ("unix:/run/a;b", "the path `/run/a;b` has the character ';', which server files cannot hold safely"),
            ("unix:/run/a b", "`unix"),
        ] {
            assert_eq!(read(typed), why, "{typed}");
        }
    }

    #[test]
    fn names_have_no_folders_and_nothing_that_servers_would_read_otherwise() {
        assert_eq!(parse_names("index.php, home.html").unwrap(), ["index.php", "home.html"]);
        for wrong in ["", "a/b", ".htaccess", "a b", "a;b", "x,,y", "$uri"] {
            assert!(parse_names(wrong).is_err(), "{wrong}");
        }
    }

    #[test]
    fn sizes_have_units_and_an_end() {
        let sizes = ["512", "500k", "20M", "2G"].map(|typed| parse_size(typed).unwrap());
        assert_eq!(sizes, [512, 500 << 10, 20 << 20, 2 << 30]);
        for wrong in ["", "0", "M", "-1", "1.5M", "99999G", "20MM", "18446744073709551615K"] {
            assert!(parse_size(wrong).is_err(), "{wrong}");
        }
    }
}

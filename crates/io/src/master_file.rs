//! Reads master files with what they include (RFC 1035 section 5.1). Zones of the harbor are read as the DNS server reads them.
//! A file from outside may be a stranger's: whoever runs this can read more than its writer, so that what it includes is
//! looked for nowhere but below its own folder, and only on request.

use std::path::{Component, Path, PathBuf};

use brightharbor_core::name::DnsName;
use brightharbor_core::zone::{Document, ZoneError};

use crate::install::{read_beneath, read_regular};

/// All of a zone, with what is included, in bytes.
const MOST_BYTES: usize = 256 << 20;

/// Which included files are read.
#[derive(Debug, Clone, Copy)]
pub enum Includes<'a> {
    /// Those of a zone in the harbor: relative names count from the server's working directory.
    OfServer(Option<&'a Path>),
    /// None: the file is from outside.
    Refused,
    /// Those below the folder of the file at `file`, never through a link; relative names count from `base`.
    Beneath { file: &'a Path, base: &'a Path },
}

/// Reads a master file.
pub fn parse_file(bytes: Vec<u8>, origin: &DnsName, includes: Includes<'_>) -> Result<Document, ZoneError> {
    let mut left = MOST_BYTES.saturating_sub(bytes.len());
    let mut fetch = |name: &str| {
        let content = read_included(name, includes, left)?;
        left = left.checked_sub(content.len()).ok_or("all files together are too large for a zone")?;
        Ok(content)
    };
    Document::parse_with(bytes, origin, &mut fetch)
}

fn read_included(name: &str, includes: Includes<'_>, left: usize) -> Result<Vec<u8>, String> {
    let most = left.saturating_add(1);
    match includes {
        Includes::OfServer(directory) => {
            let path = match (Path::new(name).is_absolute(), directory) {
                (true, _) => PathBuf::from(name),
                (false, Some(directory)) => directory.join(name),
                (false, None) => {
                    return Err(
                        "a relative name counts from the server's working directory, and harbor.toml names no \
                                `directory` under [dns]"
                            .to_string(),
                    );
                }
            };
            read_regular(&path, most).map_err(|error| error.to_string())
        }
        Includes::Refused => {
            Err("files that a file from outside includes are read with --follow-includes alone".to_string())
        }
        Includes::Beneath { file, base } => {
            let real = |path: &Path| std::fs::canonicalize(path).map_err(|error| error.to_string());
            let folder = real(file)?.parent().map(Path::to_path_buf).unwrap_or_default();
            let wanted = real(base)?.join(name);
            let outside = || format!("it is not below {}, the folder of the file that includes it", folder.display());
            let below = wanted.strip_prefix(&folder).map_err(|_| outside())?;
            if below.components().any(|component| !matches!(component, Component::Normal(_))) {
                return Err(outside());
            }
            read_beneath(&folder, below, most).map_err(|error| error.to_string())
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;
    use std::os::unix::fs::symlink;

    const ZONE: &str = "$TTL 300\n@ SOA ns1.saltmarsh.example. host 7 4h 30m 4w 5m\n@ NS ns1.saltmarsh.example.\n";

    #[test]
    fn a_file_from_outside_includes_what_lies_below_its_folder_and_only_on_request() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        fs::create_dir_all(at("zones/parts")).unwrap();
        fs::write(at("zones/parts/web"), "www A 192.0.2.10\n").unwrap();
        fs::write(at("secret"), "secret A 192.0.2.66\n").unwrap();
        symlink(at("secret"), at("zones/link")).unwrap();
        symlink(folder.path(), at("zones/up")).unwrap();
        let pipe = rustix::fs::FileType::Fifo;
        let mode = rustix::fs::Mode::from_raw_mode(0o600);
        rustix::fs::mknodat(rustix::fs::CWD, at("zones/pipe"), pipe, mode, 0).unwrap();
        let file = at("zones/file");
        fs::write(&file, "").unwrap();
        let origin = DnsName::absolute("gullrock.example").unwrap();
        let read = |line: &str, includes: Includes<'_>| {
            let read = parse_file(format!("{ZONE}$INCLUDE {line}\n").into_bytes(), &origin, includes);
            read.map(|zone| zone.records().count()).map_err(|error| error.to_string())
        };
        let base = at("zones");
        let beneath = Includes::Beneath { file: &file, base: &base };
        assert!(read("parts/web", Includes::Refused).unwrap_err().contains("--follow-includes"));
        let absolute = at("zones/parts/web").display().to_string();
        assert_eq!((read("parts/web", beneath), read(&absolute, beneath)), (Ok(3), Ok(3)));
        assert_eq!(read("parts/web", Includes::OfServer(Some(&base))), Ok(3));
        let (outside, up) = (at("secret").display().to_string(), "../secret".to_string());
        for name in [&outside, &up, "/etc/passwd", "parts/../../secret"] {
            assert!(read(name, beneath).unwrap_err().contains("is not below"), "{name}");
        }
        for name in ["link", "up/secret", "pipe", "parts", "none"] {
            assert!(read(name, beneath).is_err(), "{name}");
        }
        for name in ["pipe", "/dev/zero"] {
            assert!(read(name, Includes::OfServer(Some(&base))).unwrap_err().contains("regular file"), "{name}");
        }
    }

    #[test]
    fn files_that_multiply_each_other_end() {
        let folder = tempfile::tempdir().unwrap();
        let (part, file) = (folder.path().join("part"), folder.path().join("file"));
        fs::write(&part, format!("; {}\n", "-".repeat(1 << 20))).unwrap();
        fs::write(&file, "").unwrap();
        let text = format!("{ZONE}{}", "$INCLUDE part\n".repeat(300));
        let includes = Includes::Beneath { file: &file, base: folder.path() };
        let origin = DnsName::absolute("gullrock.example").unwrap();
        let error = parse_file(text.into_bytes(), &origin, includes).unwrap_err();
        assert!(error.to_string().contains("too large for a zone"), "{error}");
    }
}

//! Before any reload: every certificate and key that the web server's files name is there, readable, and belongs
//! together.
//!
//! Apache's own test passes a key that is not the certificate's, and the reload then ends the server. The files are
//! read as they lie on disk, hand edits included.

use std::fs;
use std::path::{Path, PathBuf};

use brightharbor_core::certificate::{ChainProblem, check_pair, read_chain};
use brightharbor_core::render::PlainSite;
use jiff::Timestamp;

use crate::keys::public_half;

/// What is wrong, and which file names it.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{named_in} names {path}: {problem}")]
pub struct CertificateFault {
    pub named_in: String,
    pub path: String,
    pub problem: String,
    /// Only the date is wrong: visitors are warned, but the server runs.
    pub only_dated: bool,
}

/// What was found in the files of a web server.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct CertificateFilesSeen {
    pub faults: Vec<CertificateFault>,
    /// The first file that has Apache httpd show what a CA states of a certificate: it needs a place for that then.
    pub stapled: Option<PathBuf>,
}

/// Checks every pair that the files in `folder` name. A folder that is not there names nothing.
pub fn check_certificate_files(folder: &Path, now: Timestamp) -> CertificateFilesSeen {
    let Ok(entries) = fs::read_dir(folder) else { return CertificateFilesSeen::default() };
    let mut files: Vec<PathBuf> = entries.filter_map(|entry| entry.ok().map(|entry| entry.path())).collect();
    files.sort();
    let mut seen = CertificateFilesSeen::default();
    for file in files {
        let hidden = file.file_name().is_some_and(|name| name.to_string_lossy().starts_with('.'));
        let Some(text) = fs::read_to_string(&file).ok().filter(|_| !hidden) else { continue };
        let mut pairs = pairs_named(&text);
        pairs.sort();
        pairs.dedup();
        for (chain, key) in pairs {
            seen.faults.extend(check(&file, &chain, &key, now));
        }
        if seen.stapled.is_none() && text.lines().any(|line| line.trim() == "SSLUseStapling on") {
            seen.stapled = Some(file);
        }
    }
    seen
}

/// The pairs of certificate and key files that a server file names.
fn pairs_named(text: &str) -> Vec<(PathBuf, PathBuf)> {
    if let Ok(site) = serde_json::from_str::<PlainSite>(text) {
        return site.chain.zip(site.key).into_iter().collect();
    }
    let mut pairs = Vec::new();
    let mut chain: Option<PathBuf> = None;
    for line in text.lines() {
        let line = line.trim();
        let Some((word, value)) = line.split_once([' ', '\t']) else { continue };
        let value = PathBuf::from(value.trim().trim_end_matches(';').trim().trim_matches('"'));
        match word.to_ascii_lowercase().as_str() {
            "ssl_certificate" | "sslcertificatefile" => chain = Some(value),
            "ssl_certificate_key" | "sslcertificatekeyfile" => {
                if let Some(chain) = chain.take() {
                    pairs.push((chain, value));
                }
            }
            _ => {}
        }
    }
    pairs
}

fn check(named_in: &Path, chain_path: &Path, key_path: &Path, now: Timestamp) -> Option<CertificateFault> {
    let fault = |path: &Path, problem: String, only_dated: bool| {
        let (named_in, path) = (named_in.display().to_string(), path.display().to_string());
        Some(CertificateFault { named_in, path, problem, only_dated })
    };
    let pem = match fs::read(chain_path) {
        Ok(pem) => pem,
        Err(error) => return fault(chain_path, error.to_string(), false),
    };
    let chain = match read_chain(&pem) {
        Ok(chain) => chain,
        Err(error) => return fault(chain_path, error.to_string(), false),
    };
    let public = fs::read_to_string(key_path).map_err(|error| error.to_string());
    let public = match public.and_then(|pem| public_half(&pem).map_err(|error| error.to_string())) {
        Ok(public) => public,
        Err(problem) => return fault(key_path, problem, false),
    };
    let problems = check_pair(&chain, &public, now);
    let gravest = problems.iter().find(|problem| problem.breaks_servers()).or(problems.first())?;
    let path = if *gravest == ChainProblem::OtherKey { key_path } else { chain_path };
    fault(path, gravest.to_string(), !gravest.breaks_servers())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rcgen::{CertificateParams, KeyPair};

    struct World {
        folder: tempfile::TempDir,
        now: Timestamp,
    }

    fn world() -> World {
        let folder = tempfile::tempdir().unwrap();
        fs::create_dir(folder.path().join("sites")).unwrap();
        World { folder, now: "2026-11-23T07:00:00Z".parse().unwrap() }
    }

    impl World {
        fn pair(&self, name: &str) -> (PathBuf, PathBuf) {
            let key = KeyPair::generate().unwrap();
            let certificate = CertificateParams::new(vec![name.into()]).unwrap().self_signed(&key).unwrap();
            let (chain_path, key_path) =
                (self.folder.path().join(format!("{name}.pem")), self.folder.path().join(format!("{name}.key")));
            fs::write(&chain_path, certificate.pem()).unwrap();
            fs::write(&key_path, key.serialize_pem()).unwrap();
            (chain_path, key_path)
        }

        fn faults(&self, chain: &Path, key: &Path) -> Vec<(String, bool)> {
            let nginx = format!(
                "server {{\n ssl_certificate \"{}\";\n ssl_certificate_key \"{}\";\n}}\n",
                chain.display(),
                key.display()
            );
            let apache = format!(
                "<VirtualHost *:443>\nSSLCertificateFile {}\nSSLCertificateKeyFile {}\n",
                chain.display(),
                key.display()
            );
            let mut told = Vec::new();
            for text in [nginx, apache] {
                fs::write(self.folder.path().join("sites/site.conf"), text).unwrap();
                let faults = check_certificate_files(&self.folder.path().join("sites"), self.now).faults;
                told.push(faults.into_iter().map(|fault| (fault.problem, fault.only_dated)).collect::<Vec<_>>());
            }
            assert_eq!(told[0], told[1], "both servers' files are read alike");
            told.remove(0)
        }
    }

    #[test]
    fn whole_pairs_pass_and_everything_else_is_told() {
        let world = world();
        let (chain, key) = world.pair("gullrock.example");
        let (_, other_key) = world.pair("lanternchoir.example");
        assert_eq!(world.faults(&chain, &key), []);
        let other = world.faults(&chain, &other_key);
        assert_eq!(other, [("the key is not the one of the certificate: they do not belong together".into(), false)]);
        assert!(world.faults(&chain, Path::new("/no/such/key"))[0].0.contains("No such file"));
        assert!(world.faults(Path::new("/no/such/chain"), &key)[0].0.contains("No such file"));
        fs::write(&chain, "not a certificate").unwrap();
        assert!(world.faults(&chain, &key)[0].0.contains("no certificate"));
    }

    #[test]
    fn an_expired_certificate_is_told_apart() {
        let mut world = world();
        let (chain, key) = world.pair("gullrock.example");
        world.now = "9999-01-01T00:00:00Z".parse().unwrap();
        let faults = world.faults(&chain, &key);
        assert!(faults[0].1 && faults[0].0.contains("expired"), "{faults:?}");
    }

    #[test]
    fn the_first_file_that_staples_is_named() {
        let world = world();
        let sites = world.folder.path().join("sites");
        let seen = || check_certificate_files(&sites, world.now).stapled;
        fs::write(sites.join("a.conf"), "<VirtualHost *:443>\n    # SSLUseStapling on\n</VirtualHost>\n").unwrap();
        assert_eq!(seen(), None);
        fs::write(sites.join("b.conf"), "<VirtualHost *:443>\n    SSLUseStapling on\n</VirtualHost>\n").unwrap();
        assert_eq!(seen(), Some(sites.join("b.conf")));
    }

    #[test]
    fn a_folder_that_is_not_there_names_nothing() {
        let nothing = CertificateFilesSeen::default();
        assert_eq!(check_certificate_files(Path::new("/no/such/folder"), Timestamp::UNIX_EPOCH), nothing);
    }
}

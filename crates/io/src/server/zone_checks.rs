//! Lets the DNS server's own checker read zone files: a few one by one, many with as few starts as the server allows.
//!
//! What its programs are told is decided in `core::render::zone_checks`; loading is in `dns`.

use std::io::Write;
use std::path::PathBuf;

use brightharbor_core::harbor::Settings;
use brightharbor_core::name::Hostname;
use brightharbor_core::render::{check_of_many, check_words, one_of_each_kind};
use futures_util::{StreamExt, TryStreamExt, stream};

use super::ServerError;
use super::process::run_bounded_in;

/// So few are cheaper one by one, and an error names its file at once.
const FEW: usize = 4;
/// So many are read by one start: what a program prints of them stays far below what is read of it.
const AT_ONCE: usize = 500;

/// Lets the server's own checker read zone files.
///
/// # Errors
/// What the checker says of the first file that it refuses.
pub async fn check_zones(settings: &Settings, zones: &[(Hostname, PathBuf)]) -> Result<(), ServerError> {
    if settings.dns.check.is_empty() {
        return Ok(());
    }
    if zones.len() <= FEW {
        return one_by_one(settings, zones.iter()).await;
    }
    if check_of_many(settings, &[]).is_some() {
        return stream::iter(zones.chunks(AT_ONCE).map(Ok))
            .try_for_each_concurrent(side_by_side(), |part| check_part(settings, part))
            .await;
    }
    let texts = zones.iter().map(|(zone, file)| {
        // One that cannot be read is of a kind of its own: the checker says why.
        let text =
            std::fs::read(file).map_or_else(|_| file.display().to_string(), |bytes| bytes.escape_ascii().to_string());
        (zone.clone(), text)
    });
    let chosen: std::collections::HashSet<Hostname> = one_of_each_kind(texts).into_iter().collect();
    one_by_one(settings, zones.iter().filter(|(zone, _)| chosen.contains(zone))).await
}

/// As many programs as the machine has processors for.
fn side_by_side() -> usize {
    std::thread::available_parallelism().map_or(1, usize::from)
}

async fn one_by_one(settings: &Settings, zones: impl Iterator<Item = &(Hostname, PathBuf)>) -> Result<(), ServerError> {
    let checks = zones.map(|(zone, file)| async move {
        let Some(more) = check_words(settings, zone, file) else { return Ok(()) };
        // The server reads included files from its working directory, and so must its checker.
        run_bounded_in(settings.dns.directory.as_deref(), &settings.dns.check, &more).await.map(drop)
    });
    stream::iter(checks).buffered(side_by_side()).try_collect().await
}

/// With one start. The program names what it refuses in a text about all of them: the checker says it again of that file.
async fn check_part(settings: &Settings, zones: &[(Hostname, PathBuf)]) -> Result<(), ServerError> {
    let Some(check) = check_of_many(settings, zones) else { return Ok(()) };
    let failed =
        |error: std::io::Error| ServerError::Start { command: check.before.join(" "), reason: error.to_string() };
    let mut file = tempfile::Builder::new().prefix("brightharbor-").tempfile().map_err(failed)?;
    file.write_all(check.configuration.as_bytes()).map_err(failed)?;
    match run_bounded_in(settings.dns.directory.as_deref(), &check.words(file.path()), &[]).await {
        Ok(_) => Ok(()),
        Err(ServerError::Refused { command, output }) => {
            let named = zones.iter().filter(|(zone, file)| {
                output.contains(zone.as_str()) && !output.contains(&format!("zone {zone}/IN: loaded"))
                    || output.contains(&*file.to_string_lossy())
            });
            one_by_one(settings, named).await?;
            Err(ServerError::Refused { command, output })
        }
        // A machine may have the checker without that program.
        Err(ServerError::Start { .. }) => one_by_one(settings, zones.iter()).await,
        Err(other) => Err(other),
    }
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt;
    use std::path::Path;

    use brightharbor_core::harbor::DnsServer;

    use super::*;

    /// A harbor's folder with a program that leaves a mark for each start and refuses what has `bad` in it.
    struct Yard {
        folder: tempfile::TempDir,
        settings: Settings,
    }

    impl Yard {
        fn new(server: DnsServer, programs: &[&str]) -> Self {
            let folder = tempfile::tempdir().unwrap();
            let mut settings = Settings::default();
            settings.dns.server = server;
            settings.dns.check = vec![folder.path().join(programs[0]).display().to_string()];
            for program in programs {
                let path = folder.path().join(program);
                let marks = folder.path().join("marks");
                // The last word is a zone file, or a configuration that names some.
                let script = format!(
                    "#!/bin/sh\necho {program} >> {}\nfor file; do :; done\n\
                     files=\"$file $(sed -n 's/.*file \"\\(.*\\)\".*/\\1/p' \"$file\")\"\n\
                     if grep -l bad $files; then exit 1; fi\n",
                    marks.display()
                );
                std::fs::write(&path, script).unwrap();
                std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o755)).unwrap();
            }
            Self { folder, settings }
        }

        fn zones(&self, texts: &[&str]) -> Vec<(Hostname, PathBuf)> {
            let write = |(number, text): (usize, &&str)| {
                let file = self.folder.path().join(format!("berth{number}.zone"));
                let zone = Hostname::parse(&format!("berth{number}.example")).unwrap();
                std::fs::write(&file, text.replace("ZONE", zone.as_str())).unwrap();
                (zone, file)
            };
            texts.iter().enumerate().map(write).collect()
        }

        fn starts(&self) -> usize {
            let marks = self.folder.path().join("marks");
            std::fs::read_to_string(&marks).unwrap_or_default().lines().count()
        }
    }

    fn said(result: Result<(), ServerError>) -> String {
        result.err().map(|error| error.to_string()).unwrap_or_default()
    }

    #[tokio::test]
    async fn many_files_cost_one_start_and_the_one_at_fault_is_named() {
        let yard = Yard::new(DnsServer::Bind, &["named-checkzone", "named-checkconf"]);
        let good = yard.zones(&["ZONE a"; 9]);
        check_zones(&yard.settings, &good).await.unwrap();
        assert_eq!(yard.starts(), 1);
        let one_bad = yard.zones(&["ZONE a", "ZONE b", "ZONE c", "ZONE bad", "ZONE e", "ZONE f"]);
        let said = said(check_zones(&yard.settings, &one_bad).await);
        assert!(said.contains("named-checkzone berth3.example") && !said.contains("berth4"), "{said}");
        assert_eq!(yard.starts(), 3, "the many, and the one");
    }

    #[tokio::test]
    async fn without_the_program_for_many_each_file_is_read_alone() {
        let yard = Yard::new(DnsServer::Bind, &["named-checkzone"]);
        let zones = yard.zones(&["ZONE a", "ZONE b", "ZONE c", "ZONE d", "ZONE bad"]);
        assert!(said(check_zones(&yard.settings, &zones).await).contains("berth4.example"));
        assert_eq!(yard.starts(), 5);
    }

    #[tokio::test]
    async fn where_one_start_reads_one_file_each_kind_is_read_once() {
        let yard = Yard::new(DnsServer::Nsd, &["nsd-checkzone"]);
        let zones = yard.zones(&["ZONE a", "ZONE a", "ZONE a", "ZONE b", "ZONE a", "ZONE b"]);
        check_zones(&yard.settings, &zones).await.unwrap();
        assert_eq!(yard.starts(), 2);
        let zones = yard.zones(&["ZONE a", "ZONE a", "ZONE a", "ZONE bad", "ZONE a", "ZONE b"]);
        assert!(said(check_zones(&yard.settings, &zones).await).contains("berth3.example"));
    }

    #[tokio::test]
    async fn without_a_checker_nothing_is_started() {
        let mut yard = Yard::new(DnsServer::Bind, &["named-checkzone"]);
        yard.settings.dns.check.clear();
        check_zones(&yard.settings, &[(Hostname::parse("a.example").unwrap(), Path::new("/no").into())]).await.unwrap();
        assert_eq!(yard.starts(), 0);
    }
}

//! Finds the servers on this machine: by their programs and main files, changing nothing.

use std::path::{Path, PathBuf};

use brightharbor_core::harbor::{DnsServer, WebServer};

/// What was found, with the commands and files that go with it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Found {
    pub web: Vec<FoundWeb>,
    pub dns: Vec<FoundDns>,
    /// Versions of PHP with a pool manager.
    pub php: Vec<FoundPhp>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FoundPhp {
    pub version: String,
    pub program: PathBuf,
    pub pool_folder: PathBuf,
    pub test: Vec<String>,
    pub reload: Vec<String>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FoundWeb {
    pub server: WebServer,
    pub program: PathBuf,
    pub main_file: PathBuf,
    pub test: Vec<String>,
    pub reload: Vec<String>,
    /// The group of its workers, where the configuration tells it.
    pub group: Option<String>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FoundDns {
    pub server: DnsServer,
    pub program: PathBuf,
    pub main_file: PathBuf,
    /// The working directory, where the configuration tells it.
    pub directory: Option<PathBuf>,
    pub check: Vec<String>,
    pub control_command: Vec<String>,
}

/// Looks in the folders of `path` (the PATH variable), and in the sbin folders that it often leaves out.
pub fn find_servers(path: &str) -> Found {
    let mut folders: Vec<PathBuf> = std::env::split_paths(path).collect();
    folders.extend(["/usr/local/sbin", "/usr/sbin", "/sbin"].map(PathBuf::from));
    let program = |names: &[&str]| {
        names.iter().find_map(|name| folders.iter().map(|folder| folder.join(name)).find(|file| file.is_file()))
    };
    let first_file = |files: &[&str]| files.iter().map(PathBuf::from).find(|file| file.is_file());
    let words = |program: &Path, more: &[&str]| {
        let mut words = vec![program.display().to_string()];
        words.extend(more.iter().map(|word| word.to_string()));
        words
    };
    let mut found = Found::default();
    if let Some(nginx) = program(&["nginx"]) {
        let main_file = first_file(&["/etc/nginx/nginx.conf", "/usr/local/etc/nginx/nginx.conf"]);
        found.web.push(FoundWeb {
            server: WebServer::Nginx,
            group: main_file.as_deref().and_then(nginx_group),
            main_file: main_file.unwrap_or_else(|| "/etc/nginx/nginx.conf".into()),
            test: words(&nginx, &["-t", "-q"]),
            reload: words(&nginx, &["-s", "reload"]),
            program: nginx,
        });
    }
    if let Some(control) = program(&["apache2ctl", "apachectl"]) {
        let main_file = first_file(&["/etc/apache2/apache2.conf", "/etc/httpd/conf/httpd.conf"]);
        found.web.push(FoundWeb {
            server: WebServer::Apache,
            group: main_file.as_deref().and_then(apache_group),
            main_file: main_file.unwrap_or_else(|| "/etc/apache2/apache2.conf".into()),
            test: words(&control, &["configtest"]),
            reload: words(&control, &["graceful"]),
            program: control,
        });
    }
    found.php = find_php(&folders);
    found.dns.extend(DNS_SERVERS.iter().filter_map(|known| {
        let (daemon, control) = (program(&[known.daemon])?, program(&[known.control])?);
        let main_file = first_file(known.main_files).unwrap_or_else(|| known.main_files[0].into());
        Some(FoundDns {
            server: known.server,
            directory: working_directory(&main_file),
            main_file,
            check: program(&[known.check]).map(|check| words(&check, &[])).unwrap_or_default(),
            control_command: words(&control, &[]),
            program: daemon,
        })
    }));
    found
}

/// The pool managers, by their names in Debian: `php-fpm8.2`, with the pools in `/etc/php/8.2/fpm/pool.d`.
fn find_php(folders: &[PathBuf]) -> Vec<FoundPhp> {
    let entries = folders.iter().filter_map(|folder| std::fs::read_dir(folder).ok()).flatten().flatten();
    let mut found: Vec<FoundPhp> = entries
        .filter_map(|entry| {
            let version = entry.file_name().to_str()?.strip_prefix("php-fpm")?.to_string();
            let is_version = version.starts_with(|c: char| c.is_ascii_digit());
            let pool_folder = PathBuf::from(format!("/etc/php/{version}/fpm/pool.d"));
            let reload = match Path::new("/run/systemd/system").is_dir() {
                true => vec!["systemctl".to_string(), "reload".into(), format!("php{version}-fpm")],
                false => ["pkill", "-USR2", "-F"]
                    .map(String::from)
                    .into_iter()
                    .chain([format!("/run/php/php{version}-fpm.pid")])
                    .collect(),
            };
            (is_version && pool_folder.is_dir()).then(|| FoundPhp {
                test: vec![entry.path().display().to_string(), "-t".into()],
                program: entry.path(),
                version,
                pool_folder,
                reload,
            })
        })
        .collect();
    found.sort_by(|one, other| one.version.cmp(&other.version));
    found.dedup_by(|one, other| one.version == other.version);
    found
}

/// `user www-data;`, or with a group of another name behind it.
fn nginx_group(main_file: &Path) -> Option<String> {
    let text = std::fs::read_to_string(main_file).ok()?;
    let line = text.lines().find_map(|line| line.trim().strip_prefix("user ")?.split_once(';'))?.0.to_string();
    line.split_whitespace().last().map(String::from)
}

/// `Group www-data`; Debian names it in a file of variables beside.
fn apache_group(main_file: &Path) -> Option<String> {
    let read = |file: &Path, word: &str, ends: char| {
        let text = std::fs::read_to_string(file).ok()?;
        text.lines().find_map(|line| Some(line.trim().strip_prefix(word)?.trim_start_matches(ends).trim().to_string()))
    };
    let named = read(main_file, "Group ", ' ').filter(|group| !group.contains('$'));
    named.or_else(|| read(&main_file.with_file_name("envvars"), "export APACHE_RUN_GROUP", '='))
}

struct KnownDns {
    server: DnsServer,
    daemon: &'static str,
    control: &'static str,
    check: &'static str,
    main_files: &'static [&'static str],
}

const DNS_SERVERS: &[KnownDns] = &[
    KnownDns {
        server: DnsServer::Bind,
        daemon: "named",
        control: "rndc",
        check: "named-checkzone",
        main_files: &["/etc/bind/named.conf", "/etc/named.conf"],
    },
    KnownDns {
        server: DnsServer::Knot,
        daemon: "knotd",
        control: "knotc",
        check: "kzonecheck",
        main_files: &["/etc/knot/knot.conf", "/usr/local/etc/knot/knot.conf"],
    },
    KnownDns {
        server: DnsServer::Nsd,
        daemon: "nsd",
        control: "nsd-control",
        check: "nsd-checkzone",
        main_files: &["/etc/nsd/nsd.conf", "/usr/local/etc/nsd/nsd.conf"],
    },
];

/// BIND's `directory` option, from its main file or the options file beside it that Debian includes there.
fn working_directory(main_file: &Path) -> Option<PathBuf> {
    let candidates = [main_file.to_path_buf(), main_file.with_file_name("named.conf.options")];
    candidates.iter().find_map(|file| {
        let text = std::fs::read_to_string(file).ok()?;
        let line = text.lines().find_map(|line| line.trim().strip_prefix("directory"))?;
        let path = line.split('"').nth(1)?;
        Path::new(path).is_absolute().then(|| PathBuf::from(path))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_group_of_the_workers_is_read_from_the_configuration() {
        let folder = tempfile::tempdir().unwrap();
        let write = |name: &str, text: &str| {
            let path = folder.path().join(name);
            std::fs::write(&path, text).unwrap();
            path
        };
        assert_eq!(nginx_group(&write("nginx.conf", "user www-data;\nhttp {}\n")), Some("www-data".into()));
        assert_eq!(nginx_group(&write("nginx.conf", "  user harbor visitors;\n")), Some("visitors".into()));
        assert_eq!(nginx_group(&write("nginx.conf", "# user x\n")), None);
        let main = write("apache2.conf", "User ${APACHE_RUN_USER}\nGroup ${APACHE_RUN_GROUP}\n");
        assert_eq!(apache_group(&main), None);
        write("envvars", "unset HOME\nexport APACHE_RUN_GROUP=www-data\n");
        assert_eq!(apache_group(&main), Some("www-data".into()));
        assert_eq!(apache_group(&write("httpd.conf", "Group apache\n")), Some("apache".into()));
    }

    #[test]
    fn programs_are_found_by_their_names_and_the_working_directory_in_the_options() {
        let folder = tempfile::tempdir().unwrap();
        for program in ["named", "rndc", "nginx"] {
            std::fs::write(folder.path().join(program), "").unwrap();
        }
        let found = find_servers(&folder.path().display().to_string());
        assert_eq!(found.web[0].server, WebServer::Nginx);
        assert_eq!(found.dns[0].server, DnsServer::Bind);
        assert_eq!(found.dns[0].control_command, [folder.path().join("rndc").display().to_string()]);
        let options = "options {\n\tdirectory \"/var/cache/bind\";\n};\n";
        std::fs::write(folder.path().join("named.conf.options"), options).unwrap();
        let directory = working_directory(&folder.path().join("named.conf"));
        assert_eq!(directory, Some("/var/cache/bind".into()));
    }
}

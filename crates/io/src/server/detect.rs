//! Finds the servers on this machine: by their programs and main files, changing nothing.

use std::path::{Path, PathBuf};

use brightharbor_core::harbor::{DnsServer, WebServer};

/// What was found, with the commands and files that go with it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Found {
    pub web: Vec<FoundWeb>,
    pub dns: Option<FoundDns>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FoundWeb {
    pub server: WebServer,
    pub program: PathBuf,
    pub main_file: PathBuf,
    pub test: Vec<String>,
    pub reload: Vec<String>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FoundDns {
    pub server: DnsServer,
    pub program: PathBuf,
    pub main_file: PathBuf,
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
            main_file: main_file.unwrap_or_else(|| "/etc/apache2/apache2.conf".into()),
            test: words(&control, &["configtest"]),
            reload: words(&control, &["graceful"]),
            program: control,
        });
    }
    if let (Some(named), Some(rndc)) = (program(&["named"]), program(&["rndc"])) {
        let check = program(&["named-checkzone"]);
        let main_file = first_file(&["/etc/bind/named.conf", "/etc/named.conf"]);
        found.dns = Some(FoundDns {
            server: DnsServer::Bind,
            main_file: main_file.unwrap_or_else(|| "/etc/bind/named.conf".into()),
            check: check.map(|check| words(&check, &[])).unwrap_or_default(),
            control_command: words(&rndc, &[]),
            program: named,
        });
    }
    found
}

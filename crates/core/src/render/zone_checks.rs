//! What a DNS server's own checker is told, for one zone file and for many with one start of a program. Running it is
//! for `brightharbor-io` (`server/zone_checks.rs`); what the remote control is told is in `control_orders`.

use std::fmt::Write;
use std::path::{Path, PathBuf};

use super::zone_list::quoted;
use crate::harbor::{DnsServer, Settings};
use crate::name::Hostname;

/// What follows the checker's own words, so that it reads this file; `None` where nothing checks.
pub fn check_words(settings: &Settings, zone: &Hostname, file: &Path) -> Option<Vec<String>> {
    let (zone, file) = (zone.to_string(), file.display().to_string());
    match settings.dns.server {
        _ if settings.dns.check.is_empty() => None,
        DnsServer::Bind | DnsServer::Nsd => Some(vec![zone, file]),
        DnsServer::Knot => Some(vec!["-o".into(), zone, file]),
        DnsServer::StandIn | DnsServer::None => None,
    }
}

/// One start of a program of the server's that reads many zone files: a configuration with these zones alone, and the
/// words around the name of the file that it is written to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CheckOfMany {
    pub configuration: String,
    pub before: Vec<String>,
    pub after: Vec<String>,
}

impl CheckOfMany {
    /// The whole command, with the configuration in `file`.
    pub fn words(&self, file: &Path) -> Vec<String> {
        let file = file.display().to_string();
        self.before.iter().chain(std::iter::once(&file)).chain(&self.after).cloned().collect()
    }
}

/// How many zones are checked with one start; `None` where the server has no program for it (NSD), or where the settings
/// name another checker than the server's, which knows better what it wants.
pub fn check_of_many(settings: &Settings, zones: &[(Hostname, PathBuf)]) -> Option<CheckOfMany> {
    let dns = &settings.dns;
    let [checker] = &dns.check[..] else { return None };
    let is = |program: &str, name: &str| Path::new(program).file_name().is_some_and(|file| file == name);
    match dns.server {
        DnsServer::Bind if is(checker, "named-checkzone") => {
            let mut text = String::new();
            if let Some(folder) = &dns.directory {
                let _ = writeln!(text, "options {{ directory {}; }};", quoted(folder));
            }
            for (zone, file) in zones {
                let _ = writeln!(text, "zone \"{zone}\" {{ type primary; file {}; }};", quoted(file));
            }
            let program = Path::new(checker).with_file_name("named-checkconf");
            let before = vec![program.display().to_string(), "-z".into()];
            Some(CheckOfMany { configuration: text, before, after: vec![] })
        }
        DnsServer::Knot if is(checker, "kzonecheck") => {
            let program = dns.control_command.first().filter(|program| is(program, "knotc"))?;
            let mut text = "template:\n  - id: default\n    semantic-checks: on\n".to_string();
            if let Some(folder) = &dns.directory {
                let _ = writeln!(text, "    storage: {}", quoted(folder));
            }
            text.push_str("zone:\n");
            for (zone, file) in zones {
                let _ = writeln!(text, "  - domain: {zone}\n    file: {}", quoted(file));
            }
            let before = vec![program.clone(), "-c".into()];
            Some(CheckOfMany { configuration: text, before, after: vec!["zone-check".into()] })
        }
        _ => None,
    }
}

/// Of files that say the same but for the name of their zone, one stands for all: what a checker says of it, it would say
/// of the others. For a server whose checker reads one file a start.
pub fn one_of_each_kind(zones: impl IntoIterator<Item = (Hostname, String)>) -> Vec<Hostname> {
    let mut seen = std::collections::HashSet::new();
    let mut chosen = Vec::new();
    for (zone, text) in zones {
        if seen.insert(text.replace(zone.as_str(), "\0")) {
            chosen.push(zone);
        }
    }
    chosen
}

#[cfg(test)]
mod tests {
    use super::*;

    fn name(text: &str) -> Hostname {
        Hostname::parse(text).unwrap()
    }

    fn settled(server: DnsServer, check: &[&str], control: &str) -> Settings {
        let mut settings = Settings::default();
        settings.dns.server = server;
        settings.dns.check = check.iter().map(ToString::to_string).collect();
        settings.dns.control_command = vec![control.into(), "-s".into(), "/run/socket".into()];
        settings.dns.directory = Some("/var/zones".into());
        settings
    }

    #[test]
    fn each_checker_takes_the_zone_and_its_file_in_its_own_way() {
        let words = |server, check: &[&str]| {
            let settings = settled(server, check, "x");
            check_words(&settings, &name("a.example"), Path::new("/h/a.zone")).map(|words| words.join(" "))
        };
        assert_eq!(words(DnsServer::Bind, &[]), None);
        assert_eq!(words(DnsServer::Bind, &["named-checkzone"]).unwrap(), "a.example /h/a.zone");
        assert_eq!(words(DnsServer::Nsd, &["nsd-checkzone"]).unwrap(), "a.example /h/a.zone");
        assert_eq!(words(DnsServer::Knot, &["kzonecheck"]).unwrap(), "-o a.example /h/a.zone");
        assert_eq!(words(DnsServer::StandIn, &["x"]), None);
    }

    #[test]
    fn many_zones_are_one_configuration_and_one_start() {
        let zones = [(name("a.example"), "/h/a.zone".into()), (name("b.example"), "/h/b.zone".into())];
        let of = |settings: &Settings| check_of_many(settings, &zones);
        let bind = of(&settled(DnsServer::Bind, &["/usr/bin/named-checkzone"], "rndc")).unwrap();
        assert_eq!(bind.words(Path::new("/tmp/c")), ["/usr/bin/named-checkconf", "-z", "/tmp/c"]);
        assert_eq!(
            bind.configuration,
            "options { directory \"/var/zones\"; };\n\
             zone \"a.example\" { type primary; file \"/h/a.zone\"; };\n\
             zone \"b.example\" { type primary; file \"/h/b.zone\"; };\n"
        );
        let knot = of(&settled(DnsServer::Knot, &["/usr/bin/kzonecheck"], "/usr/sbin/knotc")).unwrap();
        assert_eq!(knot.words(Path::new("/tmp/c")), ["/usr/sbin/knotc", "-c", "/tmp/c", "zone-check"]);
        assert_eq!(
            knot.configuration,
            "template:\n  - id: default\n    semantic-checks: on\n    storage: \"/var/zones\"\nzone:\n  \
             - domain: a.example\n    file: \"/h/a.zone\"\n  - domain: b.example\n    file: \"/h/b.zone\"\n"
        );
    }

    #[test]
    fn a_checker_of_somebodys_own_is_asked_file_by_file() {
        let zones = [(name("a.example"), "/h/a.zone".into())];
        for (server, check, control) in [
            (DnsServer::Bind, &["sudo", "named-checkzone"][..], "rndc"),
            (DnsServer::Bind, &["/opt/check"], "rndc"),
            (DnsServer::Knot, &["kzonecheck"], "/opt/control"),
            (DnsServer::Knot, &["/opt/check"], "knotc"),
            (DnsServer::Nsd, &["nsd-checkzone"], "nsd-control"),
            (DnsServer::Bind, &[], "rndc"),
        ] {
            assert_eq!(check_of_many(&settled(server, check, control), &zones), None, "{check:?}");
        }
    }

    #[test]
    fn files_that_differ_in_the_name_alone_are_of_one_kind() {
        let zones = [
            (name("a.example"), "$ORIGIN a.example.\n@ A 192.0.2.1\n".to_string()),
            (name("b.example"), "$ORIGIN b.example.\n@ A 192.0.2.1\n".to_string()),
            (name("c.example"), "$ORIGIN c.example.\n@ A 192.0.2.2\n".to_string()),
        ];
        assert_eq!(one_of_each_kind(zones), [name("a.example"), name("c.example")]);
    }
}

//! What is said to a DNS server's remote control (`rndc`, `knotc`, `nsd-control`). The servers differ in their words
//! alone. Running it is for `brightharbor-io`; it is started as few times as its words allow, however many zones there
//! are. What their checkers are told is in `zone_checks`.

use super::{Serving, is_published, zone_stanza};
use crate::change::Needs;
use crate::harbor::{DnsServer, Layout, NewZones, Settings};
use crate::name::Hostname;
use crate::zone::ParentNews;

/// For a command that is taken back: the zones that the server has to be told to forget one by one, and what it is to load
/// then.
pub fn taken_back(settings: &Settings, needs: &Needs) -> (Vec<Hostname>, Needs) {
    if settings.dns.server == DnsServer::Bind && settings.dns.new_zones == NewZones::Addzone {
        // Those that it was told to forget are files again.
        let left = Needs { new_zones: needs.gone_zones.clone(), gone_zones: vec![], ..needs.clone() };
        return (needs.new_zones.clone(), left);
    }
    (vec![], needs.clone())
}

/// The orders for the remote control, one command each, so that the server loads what has changed. `zone_list` is the text
/// of BIND's zone list as it is on disk by then.
pub fn load_orders(settings: &Settings, layout: &Layout, needs: &Needs, zone_list: &str) -> Vec<Vec<String>> {
    let words = |text: &str| vec![text.to_string()];
    let one = |order: &str, zone: &Hostname| vec![order.to_string(), zone.to_string()];
    match settings.dns.server {
        DnsServer::Bind => {
            let added = match settings.dns.new_zones {
                NewZones::Addzone => &needs.new_zones[..],
                NewZones::List => &[],
            };
            let published = is_published(zone_list);
            let add = added.iter().map(|zone| {
                let stanza =
                    zone_stanza(DnsServer::Bind, zone, &layout.zone_file(zone), Serving { published, signed_by: None });
                let options = stanza.trim().strip_prefix(&format!("zone \"{zone}\"")).unwrap_or_default();
                vec!["addzone".into(), zone.to_string(), options.trim().to_string()]
            });
            let mut orders: Vec<Vec<String>> = add.collect();
            if settings.dns.new_zones == NewZones::Addzone {
                orders.extend(needs.gone_zones.iter().map(|zone| one("delzone", zone)));
            }
            orders.extend(match (needs.zone_list, &needs.zones[..]) {
                (false, []) => None,
                (false, [zone]) => Some(one("reload", zone)),
                // New zones are read with the configuration; `reload` covers both when old ones changed too.
                (true, []) => Some(words("reconfig")),
                _ => Some(words("reload")),
            });
            orders
        }
        DnsServer::Knot if needs.zone_list => vec![words("reload")],
        DnsServer::Knot => {
            let zones = needs.all_zones().map(Hostname::to_string);
            if needs.all_zones().next().is_none() {
                return vec![];
            }
            vec![std::iter::once("zone-reload".to_string()).chain(zones).collect()]
        }
        DnsServer::Nsd => {
            let mut orders = Vec::new();
            if needs.zone_list {
                orders.push(words("reconfig"));
            }
            match &needs.zones[..] {
                [] => {}
                [zone] => orders.push(one("reload", zone)),
                _ => orders.push(words("reload")),
            }
            orders
        }
        DnsServer::StandIn | DnsServer::None => vec![],
    }
}

/// The orders for the remote control once a zone is signed no more, or is `gone` altogether: a journal of the signed form
/// would keep it from being signed again.
pub fn unsigned_orders(server: DnsServer, zone: &Hostname, gone: bool) -> Vec<Vec<String>> {
    match server {
        DnsServer::Knot => {
            let what = if gone { "+orphan" } else { "+journal" };
            vec![["-f", "zone-purge", what, zone.as_str()].map(String::from).to_vec()]
        }
        _ => vec![],
    }
}

/// The orders for the remote control about the DS records that the parent has of a zone's keys.
pub fn parent_orders(server: DnsServer, zone: &Hostname, news: &ParentNews) -> Vec<Vec<String>> {
    let words = |text: String| text.split(' ').map(String::from).collect();
    match server {
        DnsServer::Bind => {
            let of = |tags: &[u16], state: &str| {
                tags.iter().map(|tag| words(format!("dnssec -checkds -key {tag} {state} {zone}"))).collect::<Vec<_>>()
            };
            [of(&news.published, "published"), of(&news.withdrawn, "withdrawn")].concat()
        }
        // It waits for one word alone, and finds out the rest by itself.
        DnsServer::Knot if !news.published.is_empty() => vec![words(format!("zone-ksk-submitted {zone}"))],
        _ => vec![],
    }
}

/// The command that says what is wrong with the server's own configuration, where its control program only says that
/// something is.
pub fn configuration_check(settings: &Settings) -> Option<Vec<String>> {
    let dns = &settings.dns;
    let main = dns.main_file.as_ref().map(|file| file.display().to_string());
    match dns.server {
        DnsServer::Bind => {
            // It lies beside the zone checker.
            let beside = dns.check.first().and_then(|checker| std::path::Path::new(checker).parent());
            let program = beside.map_or("named-checkconf".into(), |folder| folder.join("named-checkconf"));
            Some(vec![program.display().to_string(), main?])
        }
        DnsServer::Knot => Some(dns.control_command.iter().cloned().chain(["conf-check".into()]).collect()),
        DnsServer::Nsd => Some(vec!["nsd-checkconf".into(), main?]),
        DnsServer::StandIn | DnsServer::None => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_wrong_with_the_configuration_is_asked_of_the_servers_own_checker() {
        let mut settings = Settings::default();
        settings.dns.main_file = Some("/etc/bind/named.conf".into());
        settings.dns.check = vec!["/usr/bin/named-checkzone".into()];
        settings.dns.control_command = vec!["/usr/sbin/knotc".into()];
        let mut asked = |server| {
            settings.dns.server = server;
            configuration_check(&settings).map(|words| words.join(" "))
        };
        assert_eq!(asked(DnsServer::Bind).as_deref(), Some("/usr/bin/named-checkconf /etc/bind/named.conf"));
        assert_eq!(asked(DnsServer::Knot).as_deref(), Some("/usr/sbin/knotc conf-check"));
        assert_eq!(asked(DnsServer::Nsd).as_deref(), Some("nsd-checkconf /etc/bind/named.conf"));
        assert_eq!(asked(DnsServer::None), None);
    }

    #[test]
    fn the_server_hears_what_the_parent_has_of_its_keys() {
        let news = ParentNews { published: vec![7, 9], withdrawn: vec![5], seen: None };
        let zone = Hostname::parse("a.example").unwrap();
        let told = |server, news: &ParentNews| {
            parent_orders(server, &zone, news).iter().map(|order| order.join(" ")).collect::<Vec<_>>()
        };
        assert_eq!(
            told(DnsServer::Bind, &news),
            [
                "dnssec -checkds -key 7 published a.example",
                "dnssec -checkds -key 9 published a.example",
                "dnssec -checkds -key 5 withdrawn a.example"
            ]
        );
        assert_eq!(told(DnsServer::Knot, &news), ["zone-ksk-submitted a.example"]);
        assert!(told(DnsServer::Knot, &ParentNews { published: vec![], ..news.clone() }).is_empty());
        assert!(told(DnsServer::Nsd, &news).is_empty());
        let purged = |gone| unsigned_orders(DnsServer::Knot, &zone, gone)[0].join(" ");
        assert_eq!(
            (purged(false), purged(true)),
            ("-f zone-purge +journal a.example".into(), "-f zone-purge +orphan a.example".into())
        );
        assert!(unsigned_orders(DnsServer::Bind, &zone, true).is_empty());
    }

    fn told(server: DnsServer, list: bool, zones: &[&str], new: &[&str]) -> Vec<String> {
        let names = |all: &[&str]| all.iter().map(|name| Hostname::parse(name).unwrap()).collect::<Vec<_>>();
        let needs = Needs { zone_list: list, zones: names(zones), new_zones: names(new), ..Needs::default() };
        let mut settings = Settings::default();
        settings.dns.server = server;
        settings.dns.new_zones = if list { NewZones::List } else { NewZones::Addzone };
        load_orders(&settings, &Layout::new("/h"), &needs, "").iter().map(|order| order.join(" ")).collect()
    }

    #[test]
    fn each_server_is_told_in_its_own_words() {
        let (a, b) = ("a.example", "b.example");
        assert_eq!(told(DnsServer::Bind, false, &[a], &[]), ["reload a.example"]);
        assert_eq!(told(DnsServer::Bind, false, &[a, b], &[]), ["reload"]);
        assert_eq!(told(DnsServer::Bind, true, &[], &[a]), ["reconfig"]);
        assert_eq!(told(DnsServer::Bind, true, &[b], &[a]), ["reload"]);
        let added = "addzone a.example { type primary; file \"/h/zones/a.example.zone\"; };";
        assert_eq!(told(DnsServer::Bind, false, &[], &[a]), [added]);
        assert_eq!(told(DnsServer::Knot, false, &[a, b], &[]), ["zone-reload a.example b.example"]);
        assert_eq!(told(DnsServer::Knot, true, &[b], &[a]), ["reload"]);
        assert_eq!(told(DnsServer::Nsd, true, &[], &[a]), ["reconfig"]);
        assert_eq!(told(DnsServer::Nsd, false, &[a], &[]), ["reload a.example"]);
    }

    #[test]
    fn what_was_loaded_for_a_command_that_is_taken_back_is_forgotten_first() {
        let name = |text: &str| Hostname::parse(text).unwrap();
        let needs =
            Needs { new_zones: vec![name("a.example")], gone_zones: vec![name("b.example")], ..Needs::default() };
        let mut settings = Settings::default();
        settings.dns.server = DnsServer::Bind;
        settings.dns.new_zones = NewZones::Addzone;
        let (gone, left) = taken_back(&settings, &needs);
        assert_eq!((gone, &left.new_zones[..]), (vec![name("a.example")], &[name("b.example")][..]));
        assert!(left.gone_zones.is_empty());
        settings.dns.new_zones = NewZones::List;
        assert_eq!(taken_back(&settings, &needs), (vec![], needs));
    }
}

//! Who holds which serial: the servers that hold zones of this harbor (the one here, primaries elsewhere, and the
//! secondaries), and how far each is.

use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;

use super::{Zone, ZoneHome};
use crate::harbor::{DnsServer, Settings};
use crate::name::Hostname;
use crate::zone::serial_is_newer;

/// What each server answered for each zone: the serial, or what it did instead, in words.
pub type Serials = HashMap<(SocketAddr, Hostname), Result<u32, String>>;

/// A server with the name that it is shown by.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Holder {
    pub name: String,
    pub address: SocketAddr,
    /// For a secondary: the file of the key that it is notified with.
    pub notified_with: Option<PathBuf>,
    /// The address that it is notified from; as the system chooses, where nothing tells.
    pub notified_from: Option<IpAddr>,
}

/// The servers that should hold a zone, the primary first.
pub fn holders(settings: &Settings, zone: &Zone) -> Vec<Holder> {
    let port = settings.internet.dns_port();
    match zone.home {
        ZoneHome::Elsewhere => vec![],
        ZoneHome::Remote => {
            let primary = zone.primary.as_ref().and_then(|name| Some((name, settings.primaries.get(name)?)));
            let holder = primary.map(|(name, primary)| Holder {
                name: name.clone(),
                address: primary.address.socket(port),
                notified_with: None,
                notified_from: None,
            });
            holder.into_iter().collect()
        }
        ZoneHome::Here => own_servers(settings),
    }
}

/// The servers of this harbor: the one here, and its secondaries.
pub fn own_servers(settings: &Settings) -> Vec<Holder> {
    let here = settings.dns.address.filter(|_| settings.dns.server != DnsServer::None);
    let here = here.map(|address| Holder { name: "primary".into(), address, notified_with: None, notified_from: None });
    here.into_iter().chain(secondaries(settings)).collect()
}

pub fn secondaries(settings: &Settings) -> Vec<Holder> {
    let port = settings.internet.dns_port();
    let all = settings.secondaries.iter().map(|secondary| {
        let address = secondary.address.socket(port);
        Holder {
            name: secondary.name.bare(),
            address,
            notified_with: Some(secondary.key_file.clone()),
            notified_from: secondary.notify_from.or_else(|| known_by(settings, address)),
        }
    });
    all.collect()
}

/// The address that a secondary most likely knows the server here by: many take notifications from their primary alone
/// (RFC 1996 section 3.10). One that cannot reach it, by its family or as loopback, does not count.
fn known_by(settings: &Settings, secondary: SocketAddr) -> Option<IpAddr> {
    let own = settings.dns.address?.ip();
    let reaches = own.is_ipv4() == secondary.is_ipv4() && own.is_loopback() == secondary.ip().is_loopback();
    (reaches && !own.is_unspecified()).then_some(own)
}

/// The newest serial of a zone: that of its file; of one that the server signs, that of the signed form, if that is newer.
pub fn newest_of(zone: &Zone, file: u32, holders: &[Holder], serials: &Serials) -> u32 {
    let primary = holders.first().filter(|_| zone.signing.is_some());
    let answered = primary.and_then(|primary| serials.get(&(primary.address, zone.name.clone())));
    match answered {
        Some(Ok(serial)) if serial_is_newer(*serial, file) => *serial,
        _ => file,
    }
}

/// How far a server is with a zone.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Holding {
    /// Has this serial, the newest one known.
    InStep(u32),
    Behind {
        serial: u32,
        by: u32,
    },
    /// Another serial than it should have, but not an older one.
    Ahead(u32),
    Not(String),
    NotAsked,
}

impl Holding {
    pub fn of(holder: &Holder, zone: &Hostname, newest: u32, serials: &Serials) -> Self {
        match serials.get(&(holder.address, zone.clone())) {
            None => Holding::NotAsked,
            Some(Err(words)) => Holding::Not(words.clone()),
            Some(Ok(serial)) if *serial == newest => Holding::InStep(*serial),
            Some(Ok(serial)) if serial_is_newer(*serial, newest) => Holding::Ahead(*serial),
            Some(Ok(serial)) => Holding::Behind { serial: *serial, by: newest.wrapping_sub(*serial) },
        }
    }

    pub fn is_in_step(&self) -> bool {
        matches!(self, Holding::InStep(_))
    }

    pub fn words(&self) -> String {
        match self {
            Holding::InStep(serial) => serial.to_string(),
            Holding::Behind { serial, .. } => format!("{serial} (behind)"),
            Holding::Ahead(serial) => format!("{serial} (ahead)"),
            Holding::Not(words) => words.clone(),
            Holding::NotAsked => "not asked".into(),
        }
    }

    pub fn serial(&self) -> Option<u32> {
        match self {
            Holding::InStep(serial) | Holding::Ahead(serial) | Holding::Behind { serial, .. } => Some(*serial),
            Holding::Not(_) | Holding::NotAsked => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::AccountName;

    #[test]
    fn servers_are_in_step_behind_ahead_or_silent() {
        let zone = Hostname::parse("gullrock.example").unwrap();
        let holder = Holder {
            name: "ns2".into(),
            address: "192.0.2.54:53".parse().unwrap(),
            notified_with: None,
            notified_from: None,
        };
        let seen = |answer: Result<u32, String>| {
            let serials: Serials = [((holder.address, zone.clone()), answer)].into();
            Holding::of(&holder, &zone, 7, &serials)
        };
        assert!(seen(Ok(7)).is_in_step());
        assert_eq!(seen(Ok(5)), Holding::Behind { serial: 5, by: 2 });
        assert_eq!(seen(Ok(8)).words(), "8 (ahead)");
        assert_eq!(seen(Err("did not answer in time".into())).serial(), None);
        assert_eq!(Holding::of(&holder, &zone, 7, &Serials::new()), Holding::NotAsked);
    }

    #[test]
    fn a_secondary_is_notified_from_the_address_that_it_knows_us_by() {
        let from = |own: &str, secondary: &str, said: &str| {
            let text = format!(
                "[dns]\nserver = \"bind\"\naddress = \"{own}\"\n[[secondaries]]\nname = \"ns2.saltmarsh.example.\"\n\
                 address = \"{secondary}\"\nkey-file = \"/k\"\n{said}"
            );
            secondaries(&toml::from_str(&text).unwrap())[0].notified_from.map(|from| from.to_string())
        };
        assert_eq!(from("192.0.2.53:53", "198.51.100.54", "").as_deref(), Some("192.0.2.53"));
        assert_eq!(from("127.0.0.1:53", "127.9.9.9", "").as_deref(), Some("127.0.0.1"));
        for own in ["127.0.0.1:53", "0.0.0.0:53", "[2001:db8::53]:53"] {
            assert_eq!(from(own, "198.51.100.54", ""), None, "{own}");
        }
        let said = "notify-from = \"192.0.2.7\"\n";
        assert_eq!(from("127.0.0.1:53", "198.51.100.54", said).as_deref(), Some("192.0.2.7"));
    }

    #[test]
    fn a_signed_zone_is_as_new_as_its_signed_form() {
        let holder = Holder {
            name: "primary".into(),
            address: "192.0.2.53:53".parse().unwrap(),
            notified_with: None,
            notified_from: None,
        };
        let name = Hostname::parse("gullrock.example").unwrap();
        let plain = Zone::new(name.clone(), AccountName::parse("boatyard").unwrap(), ZoneHome::Here);
        let signing = Some(Box::new(super::super::Signing { policy: "default".into(), seen: None }));
        let signed = Zone { signing, ..plain.clone() };
        let newest = |zone: &Zone, answer: Result<u32, String>| {
            let serials: Serials = [((holder.address, name.clone()), answer)].into();
            newest_of(zone, 7, std::slice::from_ref(&holder), &serials)
        };
        assert_eq!((newest(&plain, Ok(9)), newest(&signed, Ok(9)), newest(&signed, Ok(6))), (7, 9, 7));
        assert_eq!(newest(&signed, Err("silent".into())), 7);
    }

    #[test]
    fn each_home_has_its_servers() {
        let text = "[dns]\nserver = \"bind\"\naddress = \"127.0.0.1:53\"\n[primaries.quay]\naddress = \"192.0.2.53\"\n\
                    key-file = \"/k\"\n[[secondaries]]\nname = \"ns2.saltmarsh.example.\"\naddress = \"192.0.2.54:5300\"\n\
                    key-file = \"/k2\"\n";
        let settings: Settings = toml::from_str(text).unwrap();
        let account = AccountName::parse("boatyard").unwrap();
        let zone = |home| Zone {
            primary: Some("quay".into()),
            ..Zone::new(Hostname::parse("gullrock.example").unwrap(), account.clone(), home)
        };
        let names = |home| {
            holders(&settings, &zone(home)).iter().map(|h| format!("{} {}", h.name, h.address)).collect::<Vec<_>>()
        };
        assert_eq!(names(ZoneHome::Here), ["primary 127.0.0.1:53", "ns2.saltmarsh.example 192.0.2.54:5300"]);
        assert_eq!(names(ZoneHome::Remote), ["quay 192.0.2.53:53"]);
        assert!(names(ZoneHome::Elsewhere).is_empty());
    }
}

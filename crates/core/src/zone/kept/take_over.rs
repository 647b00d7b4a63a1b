//! The decision to keep a zone that the DNS server has from its own configuration (`zone create --from-server`). The file
//! stays where the server reads it, byte for byte: the harbor has a link to it. Its definition moves into the harbor's
//! zone list as it is written, so that the server notices nothing but another place.
//!
//! What the configuration says is read by `core::render::defined_zones`.

use std::path::PathBuf;

use jiff::Timestamp;

use super::{CreateZone, Zone, ZoneHome, ZoneRefusal, ZoneRemark};
use crate::account::Account;
use crate::change::{Change, FileLink, FileWrite, InventoryChange, Plan, Purpose, content_hash};
use crate::harbor::{DnsServer, Layout, NewZones, Settings};
use crate::render::{DefinedZone, ZoneKind, moved_definition, without_definition};
use crate::zone::{Document, serial_date};

/// What the decision rests on.
#[derive(Debug, Clone)]
pub struct TakeOverLoaded {
    pub owner: Option<Account>,
    /// A zone of that name which is known already.
    pub known: Option<Zone>,
    /// Where the server's own configuration defines it.
    pub defined: Vec<DefinedZone>,
    /// The file of the configuration that does, as it was read.
    pub configuration: Vec<u8>,
    /// The zone's file, or why it could not be read, in words.
    pub read: Result<Document, String>,
    /// The serial that the server answers with.
    pub served: Option<u32>,
    /// The part of the zone list that it will stand in.
    pub zone_list: Option<Vec<u8>>,
    pub catalog: Option<Vec<u8>>,
    /// Whether something lies where the harbor's file of it would.
    pub in_the_way: bool,
}

/// Why a zone stays what it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum StaysAsItIs {
    NotDefined,
    DefinedTwice {
        first: (PathBuf, usize),
        second: (PathBuf, usize),
    },
    InView,
    Secondary,
    /// No zone with records of its own: hints, a stub, forwarding.
    OfOtherKind,
    Dynamic,
    Signed,
    /// The configuration does not tell its file.
    NoFile,
    Unreadable(String),
    /// The server answers with another serial than the file has.
    NotLoaded {
        file: u32,
        served: Option<u32>,
    },
    /// The server remembers new zones itself (`new-zones = "addzone"`).
    ServerRemembers,
}

/// Decides that a zone of the server is kept here from now on.
pub fn take_over(
    request: &CreateZone,
    loaded: &TakeOverLoaded,
    settings: &Settings,
    layout: &Layout,
    now: Timestamp,
) -> Result<Plan, ZoneRefusal> {
    let CreateZone { domain, account, .. } = request;
    if loaded.owner.is_none() {
        return Err(ZoneRefusal::UnknownAccount(account.clone()));
    }
    if let Some(known) = &loaded.known {
        return Err(ZoneRefusal::Exists { zone: domain.clone(), account: known.account.clone() });
    }
    let stays = |why: StaysAsItIs| ZoneRefusal::Stays { zone: domain.clone(), why };
    let defined = sound(loaded, settings).map_err(stays)?;
    let document = loaded.read.as_ref().map_err(|words| stays(StaysAsItIs::Unreadable(words.clone())))?;
    if document.is_signed() {
        return Err(stays(StaysAsItIs::Signed));
    }
    let serial = document.soa().serial;
    if loaded.served != Some(serial) {
        return Err(stays(StaysAsItIs::NotLoaded { file: serial, served: loaded.served }));
    }
    let path = layout.zone_file(domain);
    if loaded.in_the_way {
        return Err(super::NewZoneRefused::InTheWay(path).into());
    }
    let server = settings.dns.server;
    let part = layout.zone_list_of(server, domain);
    let configuration = String::from_utf8_lossy(&loaded.configuration);
    let list = String::from_utf8_lossy(loaded.zone_list.as_deref().unwrap_or_default());
    let mut plan = Plan::new(format!("zone create {domain} --from-server"));
    // The definition leaves its file first: a server that starts in between lacks one zone, and does not see two.
    let without = without_definition(server, &configuration, defined, &part);
    let before = Some(loaded.configuration.clone());
    plan.set.file(FileWrite::new(defined.defined_in.clone(), before, without, 0o644, Purpose::ServerFile));
    let with = moved_definition(server, &list, &configuration, defined);
    plan.set.file(FileWrite::new(part, loaded.zone_list.clone(), with, 0o644, Purpose::ZoneList));
    let file = defined.file.clone().unwrap_or_default();
    let hash = content_hash(document.source());
    plan.change(Change::LinkFile(FileLink { path, to: file.clone(), zone: domain.clone(), hash, moves: true }));
    let member = super::catalog::with_member(domain, loaded.catalog.as_deref(), serial_date(now), settings, layout);
    plan.set.extend(member?);
    plan.set.inventory(InventoryChange::AddZone(Zone::new(domain.clone(), account.clone(), ZoneHome::Here)));
    let records = document.records().count();
    let defined_in = defined.defined_in.clone();
    plan.remark(ZoneRemark::TakenOver { zone: domain.clone(), records, serial, file, defined_in });
    Ok(plan)
}

/// The one definition of the zone, if it is that of a file that people edit.
fn sound<'a>(loaded: &'a TakeOverLoaded, settings: &Settings) -> Result<&'a DefinedZone, StaysAsItIs> {
    let place = |defined: &DefinedZone| (defined.defined_in.clone(), defined.line);
    let defined = match &loaded.defined[..] {
        [] => return Err(StaysAsItIs::NotDefined),
        [one] => one,
        [first, second, ..] => {
            return Err(StaysAsItIs::DefinedTwice { first: place(first), second: place(second) });
        }
    };
    match (defined.kind, defined.manner) {
        (_, manner) if manner.in_view => Err(StaysAsItIs::InView),
        (ZoneKind::Secondary, _) => Err(StaysAsItIs::Secondary),
        (ZoneKind::Other, _) => Err(StaysAsItIs::OfOtherKind),
        (ZoneKind::Primary, manner) if manner.dynamic => Err(StaysAsItIs::Dynamic),
        (ZoneKind::Primary, manner) if manner.signed => Err(StaysAsItIs::Signed),
        _ if defined.file.is_none() => Err(StaysAsItIs::NoFile),
        _ if settings.dns.server == DnsServer::Bind && settings.dns.new_zones == NewZones::Addzone => {
            Err(StaysAsItIs::ServerRemembers)
        }
        _ => Ok(defined),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::AccountName;
    use crate::name::Hostname;
    use crate::render::Manner;
    use crate::zone::{Mail, ZoneDesign};

    const OWN: &str = "// by hand\nzone \"gullrock.example\" { type primary; file \"/etc/bind/db.g\"; notify no; };\n";

    fn loaded() -> TakeOverLoaded {
        let text = "$TTL 900\n@ SOA ns1 host 7 4h 30m 4w 5m\n@ NS ns1\nns1 A 192.0.2.1\n";
        let files = [("/etc/bind/own.conf".into(), OWN.to_string())];
        TakeOverLoaded {
            owner: Some(Account::new(request().account, "yard@saltmarsh.example", "/home/boatyard")),
            known: None,
            defined: crate::render::defined_zones(DnsServer::Bind, &files, None),
            configuration: OWN.into(),
            read: Ok(Document::parse(text, &request().domain.dns_name()).unwrap()),
            served: Some(7),
            zone_list: None,
            catalog: None,
            in_the_way: false,
        }
    }

    fn request() -> CreateZone {
        CreateZone {
            domain: Hostname::parse("gullrock.example").unwrap(),
            account: AccountName::parse("boatyard").unwrap(),
            design: ZoneDesign::plain(Mail::Unsaid),
        }
    }

    fn decide(loaded: &TakeOverLoaded) -> Result<Plan, ZoneRefusal> {
        let mut settings = Settings::default();
        settings.dns.server = DnsServer::Bind;
        let now = "2026-11-28T12:00:00Z".parse().unwrap();
        take_over(&request(), loaded, &settings, &Layout::new("/harbor"), now)
    }

    #[test]
    fn the_definition_leaves_its_file_before_it_stands_in_the_list_and_the_zone_file_stays() {
        let plan = decide(&loaded()).unwrap();
        let lines: Vec<String> = plan.set.changes.iter().map(Change::line).collect();
        let part = Layout::new("/harbor").zone_list_of(DnsServer::Bind, &request().domain);
        assert_eq!(
            lines,
            [
                "change /etc/bind/own.conf (644)".to_string(),
                format!("write {} (644)", part.display()),
                "link /harbor/zones/gullrock.example.zone to /etc/bind/db.g".into(),
                "inventory: add zone gullrock.example".into(),
            ]
        );
        let own = String::from_utf8_lossy(plan.set.pending(std::path::Path::new("/etc/bind/own.conf")).unwrap());
        assert!(!own.contains("notify no"), "{own}");
        let list = String::from_utf8_lossy(plan.set.pending(&part).unwrap());
        assert!(
            list.contains("zone \"gullrock.example\" { type primary; file \"/etc/bind/db.g\"; notify no; };\n"),
            "{list}"
        );
        let needs = plan.set.needs();
        assert_eq!((needs.zone_list, needs.new_zones), (true, vec![request().domain]));
    }

    #[test]
    fn what_the_server_changes_by_itself_or_has_not_loaded_stays() {
        let why = |change: &dyn Fn(&mut TakeOverLoaded)| {
            let mut changed = loaded();
            change(&mut changed);
            match decide(&changed) {
                Err(ZoneRefusal::Stays { why, .. }) => why,
                other => panic!("{other:?}"),
            }
        };
        let manner = |manner: Manner| why(&move |loaded| loaded.defined[0].manner = manner);
        assert_eq!(manner(Manner { dynamic: true, ..Manner::default() }), StaysAsItIs::Dynamic);
        assert_eq!(manner(Manner { signed: true, ..Manner::default() }), StaysAsItIs::Signed);
        assert_eq!(manner(Manner { in_view: true, ..Manner::default() }), StaysAsItIs::InView);
        assert_eq!(why(&|loaded| loaded.defined[0].kind = ZoneKind::Secondary), StaysAsItIs::Secondary);
        assert_eq!(why(&|loaded| loaded.defined[0].kind = ZoneKind::Other), StaysAsItIs::OfOtherKind);
        assert_eq!(why(&|loaded| loaded.defined[0].file = None), StaysAsItIs::NoFile);
        assert_eq!(why(&|loaded| loaded.defined.clear()), StaysAsItIs::NotDefined);
        let place = || ("/etc/bind/own.conf".into(), 2);
        assert_eq!(
            why(&|loaded| loaded.defined.push(loaded.defined[0].clone())),
            StaysAsItIs::DefinedTwice { first: place(), second: place() }
        );
        assert_eq!(why(&|loaded| loaded.read = Err("gone".into())), StaysAsItIs::Unreadable("gone".into()));
        let not_loaded = |served| StaysAsItIs::NotLoaded { file: 7, served };
        assert_eq!(why(&|loaded| loaded.served = None), not_loaded(None));
        assert_eq!(why(&|loaded| loaded.served = Some(6)), not_loaded(Some(6)));
    }
}

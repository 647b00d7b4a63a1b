//! What decisions about zones tell.

use brightharbor_core::name::DnsName;
use brightharbor_core::zone::{CarriedOver, FormerSource, ZoneRemark, show_seconds};
use brightharbor_io::clock;

use super::Told;
use crate::show::counted;
use crate::show::human::when;
use crate::show::json::FindingDocument;

pub(super) fn told(remark: &ZoneRemark) -> Told {
    use ZoneRemark as Is;
    match remark {
        Is::New { zone, serial } => {
            Told::act("zone-created", "Created", "create", format!("zone {zone}, serial {serial}"))
                .with("zone", zone.as_str())
                .with("serial", *serial)
        }
        Is::CarriedOver { zone, carried } => carried_over(zone.as_str(), carried),
        Is::SigningOn { zone, policy } => {
            let words = format!("zone {zone}: signed by the DNS server, by its policy `{policy}`");
            Told::fact("zone-signing-on", words).with("zone", zone.as_str()).with("policy", policy.as_str())
        }
        Is::SigningOff { zone } => {
            let words = format!("zone {zone}: not signed any more");
            Told::fact("zone-signing-off", words).with("zone", zone.as_str())
        }
        Is::TakenOver { zone, records, serial, file, defined_in } => {
            let words = format!(
                "zone {zone}: kept here ({}, serial {serial}); its file stays where it is, {}, and its definition leaves {}",
                counted(*records, "record"),
                file.display(),
                defined_in.display()
            );
            Told::fact("zone-taken-over", words)
                .with("zone", zone.as_str())
                .with("records", *records)
                .with("serial", *serial)
                .with("file", file.display().to_string())
        }
        Is::OnPrimary { zone, records, serial } => {
            let words =
                format!("zone {zone}: kept on its primary server ({}, serial {serial})", counted(*records, "record"));
            Told::fact("zone-on-primary", words)
                .with("zone", zone.as_str())
                .with("records", *records)
                .with("serial", *serial)
        }
        Is::Elsewhere { zone } => {
            Told::fact("zone-elsewhere", format!("zone {zone}: kept elsewhere")).with("zone", zone.as_str())
        }
        Is::KeptElsewhere { zone } => {
            let words = format!("zone {zone} is not in this harbor; enter the records below where it is kept");
            Told::fact("records-handed-over", words).with("zone", zone.as_str())
        }
        Is::AddressesKept { zone, hostname } => {
            let words = format!("zone {zone} already has addresses for {hostname}; they are kept");
            Told::fact("addresses-kept", words).with("zone", zone.as_str()).with("hostname", hostname.as_str())
        }
        Is::RecordAdded { zone, record } => {
            Told::act("record-added", "Added", "add", format!("to zone {zone}: {record}"))
                .with("zone", zone.as_str())
                .with("record", record.to_string())
        }
        Is::RecordRemoved { zone, record } => {
            Told::act("record-removed", "Removed", "remove", format!("from zone {zone}: {record}"))
                .with("zone", zone.as_str())
                .with("record", record.to_string())
        }
        Is::RecordsAdded { zone, records } => {
            let lines: Vec<String> = records.iter().map(ToString::to_string).collect();
            Told::act("records-added", "Added", "add", format!("{} to zone {zone}", counted(records.len(), "record")))
                .with("zone", zone.as_str())
                .with("records", lines)
        }
        Is::AddressesRemoved { zone, addresses, others } => {
            let mut what = Vec::new();
            if *addresses > 0 {
                what.push(counted(*addresses, "address record"));
            }
            if *others > 0 {
                what.push(format!("{} for a certificate seller", counted(*others, "record")));
            }
            let what = format!("from zone {zone}: {}", what.join(" and "));
            Told::act("addresses-removed", "Removed", "remove", what)
                .with("zone", zone.as_str())
                .with("addresses", *addresses)
                .with("others", *others)
        }
        Is::Removed { zone, copy } => {
            let what = format!("zone {zone}; a copy of its file: {}", copy.display());
            Told::act("zone-removed", "Removed", "remove", what)
                .with("zone", zone.as_str())
                .with("copy", copy.display().to_string())
        }
        Is::StaysOnPrimary { zone } => {
            let words = format!("zone {zone} stays on its primary server; this harbor no longer knows it");
            Told::fact("zone-stays-on-primary", words).with("zone", zone.as_str())
        }
        Is::StaysElsewhere { zone } => {
            let words = format!("zone {zone} stays where it is kept; this harbor no longer knows it");
            Told::fact("zone-stays-elsewhere", words).with("zone", zone.as_str())
        }
        Is::SoaChanged { zone, soa } => {
            let times = [soa.refresh, soa.retry, soa.expire, soa.negative_ttl].map(|time| show_seconds(time.into()));
            let (primary, hostmaster) = (soa.primary.bare(), soa.hostmaster.bare());
            let what = format!("the start of authority of {zone} to {primary} {hostmaster}, {}", times.join(", "));
            Told::act("soa-changed", "Set", "set", what)
                .with("zone", zone.as_str())
                .with("primary", primary)
                .with("hostmaster", hostmaster)
                .with("times", vec![soa.refresh, soa.retry, soa.expire, soa.negative_ttl])
        }
        Is::TtlsLowered { zone, sets, ttl } => {
            let (what, to) = (counted(*sets, "record set"), show_seconds((*ttl).into()));
            Told::act("ttls-lowered", "Lowered", "lower", format!("the time to live of {what} of zone {zone} to {to}"))
                .with("zone", zone.as_str())
                .with("sets", *sets)
                .with("ttl", *ttl)
        }
        Is::ReadyToMove { zone, at, ttl } => {
            let (from, longest) = (when(*at, clock::now()), show_seconds((*ttl).into()));
            let words = if *at <= clock::now() {
                format!("zone {zone}: nothing is cached for longer than {longest}; it can move now")
            } else {
                format!("zone {zone}: from {from} on nothing is cached for longer than {longest}: move it then")
            };
            let words = format!("{words}. The delegation at the parent keeps its own time to live");
            Told::fact("ready-to-move", words).with("zone", zone.as_str()).with("at", at.to_string()).with("ttl", *ttl)
        }
        Is::JournalBeside { file, journal } => {
            let words = format!(
                "{} lies beside it: a server changes this zone by itself, and takes an edit of {} only after it was told \
                 (rndc freeze ZONE before, rndc thaw ZONE after)",
                journal.display(),
                file.display()
            );
            Told::fact("journal-beside", words).with("journal", journal.display().to_string())
        }
        Is::TtlsPutBack { zone, sets } => {
            let what = counted(*sets, "record set");
            Told::act("ttls-put-back", "Put back", "put back", format!("the time to live of {what} of zone {zone}"))
                .with("zone", zone.as_str())
                .with("sets", *sets)
        }
        Is::HandedTo { zone, account } => {
            Told::act("zone-handed-over", "Gave", "give", format!("zone {zone} to {account}"))
                .with("zone", zone.as_str())
                .with("account", account.as_str())
        }
        Is::OtherNameservers { zone, values } => {
            let words = format!("at the registrar of {zone}, set: {}", values.join("; "));
            Told::fact("nameservers-to-enter", words).with("zone", zone.as_str()).with("values", values.clone())
        }
        Is::CatalogNew { catalog, members } => {
            let what = format!("catalog zone {catalog} with {}", counted(*members, "zone"));
            Told::act("catalog-created", "Created", "create", what)
                .with("catalog", catalog.as_str())
                .with("members", *members)
        }
        Is::CatalogJoined { catalog, file } => {
            let what = format!("catalog zone {catalog}, which the server had before ({})", file.display());
            Told::act("catalog-joined", "Joined", "join", what).with("catalog", catalog.as_str())
        }
        Is::CatalogChanged { catalog, removed, added } => {
            let what = format!(
                "catalog zone {catalog}: {} removed, {} added",
                counted(*removed, "zone"),
                counted(*added, "zone")
            );
            Told::act("catalog-updated", "Updated", "update", what)
                .with("catalog", catalog.as_str())
                .with("removed", *removed)
                .with("added", *added)
        }
        Is::Published { secondaries } => {
            let what = format!("transfers to {} and their keys", counted(*secondaries, "secondary server"));
            Told::act("transfers-limited", "Limited", "limit", what).with("secondaries", *secondaries)
        }
        Is::NotInUse { zone, finding, nameservers } => {
            let names: Vec<String> = nameservers.iter().map(DnsName::bare).collect();
            let belongs = match names.is_empty() {
                true => String::new(),
                false => format!(". An edit for visitors belongs to {}", names.join(", ")),
            };
            let words = format!("nobody uses this zone yet: {}{belongs}", finding.message);
            let finding = serde_json::to_value(FindingDocument::from(finding)).unwrap_or_default();
            Told::fact("zone-not-in-use", words)
                .with("zone", zone.as_str())
                .with("finding", finding)
                .with("nameservers", names)
        }
    }
}

/// What the new zone has from the one that the world uses.
fn carried_over(zone: &str, carried: &CarriedOver) -> Told {
    let from = match &carried.from {
        FormerSource::Transfer(server) | FormerSource::Questions(server) => server.to_string(),
        FormerSource::File(name) => name.clone(),
    };
    let mut words = match carried.sets.is_empty() {
        true => format!("zone {zone}: nothing to carry over from {from}"),
        false => format!("zone {zone}: carried over from {from}: {}", carried.sets.join(", ")),
    };
    if !carried.left.is_empty() {
        words.push_str(&format!("; not {}, since other records were asked for", carried.left.join(", ")));
    }
    if !carried.from.is_whole() {
        words.push_str("; that server allows no transfer, so rarely used names may be missing (`--from FILE`)");
    }
    if carried.signed {
        words.push_str("; the domain is signed: have its DS records removed before its nameservers change");
    }
    Told::fact("carried-over", words)
        .with("zone", zone)
        .with("from", from)
        .with("sets", carried.sets.clone())
        .with("left", carried.left.clone())
        .with("replaced", carried.replaced.clone())
        .with("records", carried.records)
        .with("whole", carried.from.is_whole())
        .with("signed", carried.signed)
}

//! Errors about what a DNS server does with its zones by itself: those of its own configuration that are to be kept here
//! and cannot be, and those that it is to sign.

use brightharbor_core::name::Hostname;
use brightharbor_core::zone::{SigningRefused, StaysAsItIs};
use brightharbor_io::clock;

use super::Error;
use crate::show::human::when;

/// A zone of the server that stays what it is: why, and how it is changed then.
pub(super) fn stays(zone: &Hostname, why: StaysAsItIs) -> Error {
    let (code, words, advice) = match why {
        StaysAsItIs::NotDefined => (
            "zone-not-defined",
            "the DNS server's own configuration defines no such zone".to_string(),
            "see which ones it has: brightharbor zone list --server".to_string(),
        ),
        StaysAsItIs::DefinedTwice { first, second } => (
            "zone-not-static",
            format!(
                "it is defined twice, at {}:{} and {}:{}",
                first.0.display(),
                first.1,
                second.0.display(),
                second.1
            ),
            "take one of the definitions out, and try again".into(),
        ),
        StaysAsItIs::InView => (
            "zone-not-static",
            "the server's configuration has views, and zones in a view are not kept here".into(),
            "change it where it is; its records can be edited in its file: brightharbor record add --file".into(),
        ),
        StaysAsItIs::Secondary => (
            "zone-not-static",
            "the server has it from another one, as a secondary".into(),
            "keep it where its primary is; here it can be watched: --home elsewhere".into(),
        ),
        StaysAsItIs::OfOtherKind => (
            "zone-not-static",
            "it has no records of its own there: hints, a stub, or forwarding".into(),
            "see the kinds of zones: brightharbor zone list --server".into(),
        ),
        StaysAsItIs::Dynamic => (
            "zone-not-static",
            "the server takes updates for it and rewrites its file".into(),
            format!(
                "change it by updates: name the server under [primaries] in harbor.toml, then: brightharbor zone create \
                 {zone} --account ACCOUNT --home remote --primary NAME"
            ),
        ),
        StaysAsItIs::Signed => (
            "zone-not-static",
            "it is signed".into(),
            format!(
                "change it by updates, so that its server signs them: name that under [primaries] in harbor.toml, then: \
                 brightharbor zone create {zone} --account ACCOUNT --home remote --primary NAME"
            ),
        ),
        StaysAsItIs::NoFile => (
            "zone-not-static",
            "the configuration does not tell its file".into(),
            "name its file there, with its full path".into(),
        ),
        StaysAsItIs::Unreadable(words) => {
            ("zone-unreadable", words, "correct the file, or the server's configuration".into())
        }
        StaysAsItIs::NotLoaded { file, served } => (
            "zone-not-loaded",
            match served {
                Some(served) => format!("its file has serial {file}, and the server answers with {served}"),
                None => format!("its file has serial {file}, and the server answers with none"),
            },
            "have the server load the file first, and see that it does".into(),
        ),
        StaysAsItIs::ServerRemembers => (
            "server-remembers-zones",
            "`new-zones` is `addzone`: the server would have to forget the zone and learn it again".into(),
            "set `new-zones = \"list\"` under [dns] in harbor.toml".into(),
        ),
    };
    Error::refused(code, format!("zone {zone} is not taken over: {words}")).advice(advice).with("zone", zone.as_str())
}

/// A zone whose signing stays as it is.
pub(super) fn signing(zone: &Hostname, why: SigningRefused) -> Error {
    let (code, words, advice) = match why {
        SigningRefused::NotHere => {
            ("zone-not-static", "its file is not here".to_string(), "sign it at the server that holds it".to_string())
        }
        SigningRefused::ServerSignsNothing(server) => (
            "server-signs-nothing",
            format!("{server} signs no zones"),
            "BIND and Knot DNS do; or sign the file elsewhere, and keep it where it is signed".into(),
        ),
        SigningRefused::ServerRemembers => (
            "server-remembers-zones",
            "`new-zones` is `addzone`: the server keeps its definition".into(),
            "set `new-zones = \"list\"` under [dns] in harbor.toml".into(),
        ),
        SigningRefused::OwnDefinition => (
            "own-definition",
            "its definition in the zone list has lines of somebody's own".into(),
            "enter the signing there too, or take those lines out".into(),
        ),
        SigningRefused::SignedInFile => (
            "zone-signed",
            "its file has signatures already".into(),
            "take signatures, keys and proofs of absence out of the file first".into(),
        ),
        SigningRefused::DsAtParent(tags) => (
            "ds-at-parent",
            format!(
                "the parent has DS records for {}: without signatures here, validating resolvers would refuse the whole domain",
                tags.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
            ),
            "have the registrar remove them, wait until they have left the caches, then try again".into(),
        ),
        SigningRefused::DsCached { until } => (
            "ds-still-cached",
            "the parent has no DS any more, but resolvers may still have one".into(),
            format!("try again after {}", when(until, clock::now())),
        ),
        SigningRefused::ParentUnknown(words) => (
            "parent-unknown",
            format!("whether the parent has DS records is not known: {words}"),
            "try again when the parent answers: brightharbor delegation check".into(),
        ),
    };
    let message = format!("the signing of zone {zone} stays as it is: {words}");
    Error::refused(code, message).advice(advice).with("zone", zone.as_str())
}

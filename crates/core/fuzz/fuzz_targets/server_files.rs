//! A DNS server's own configuration, as hands and other programs leave it: its zones are found without a panic, and taking the
//! definition of one away takes that one alone.
#![no_main]

use std::path::{Path, PathBuf};

use brightharbor_core::harbor::DnsServer;
use brightharbor_core::render::{defined_zones, moved_definition, without_definition};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let Ok(text) = std::str::from_utf8(data) else { return };
    for server in [DnsServer::Bind, DnsServer::Knot, DnsServer::Nsd] {
        let read = |text: &str| defined_zones(server, &[(PathBuf::from("/etc/own.conf"), text.to_string())], None);
        let found = read(text);
        for defined in &found {
            assert!(text.is_char_boundary(defined.span.start) && text.is_char_boundary(defined.span.end));
            let without = without_definition(server, text, defined, Path::new("/harbor/part.conf"));
            assert!(read(&without).len() < found.len(), "{server:?}: {} is still defined in {without:?}", defined.name);
            let moved = moved_definition(server, "", text, defined);
            assert!(moved.contains(&text[defined.span.clone()]));
        }
    }
});

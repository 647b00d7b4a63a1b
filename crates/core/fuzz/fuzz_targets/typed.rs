//! What people type: names, paths, addresses to redirect from and to, record data. Each is taken or refused without a panic,
//! and what is taken reads back as the same.
#![no_main]

use brightharbor_core::account::{AccountName, check_email, check_system_user};
use brightharbor_core::harbor::{ServerAddress, check_path};
use brightharbor_core::name::{DnsName, Host, Hostname, near_misses, parse_pasted};
use brightharbor_core::redirect::{Source, Target};
use brightharbor_core::zone::{RecordType, data_as_meant, owner_as_meant, parse_ttl};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let Ok(text) = std::str::from_utf8(data) else { return };
    if let Ok(name) = Hostname::parse(text) {
        assert_eq!(Hostname::parse(name.as_str()).as_ref(), Ok(&name));
        let _ = near_misses(&name);
    }
    if let Ok(host) = Host::parse(text) {
        assert_eq!(Host::parse(host.as_str()).ok(), Some(host));
    }
    if let Ok(name) = DnsName::absolute(text) {
        assert_eq!(DnsName::absolute(&name.to_string()).ok(), Some(name));
    }
    let _ = parse_pasted(text);
    let _ = AccountName::parse(text).map(|name| AccountName::parse(name.as_str()).expect("a name stays one"));
    let _ = (check_email(text), check_system_user(text), check_path(std::path::Path::new(text)), parse_ttl(text));
    let _ = text.parse::<ServerAddress>();
    for prefix in [false, true] {
        let _ = Source::parse(text, prefix);
        let _ = Target::parse(text, prefix);
    }
    let zone = DnsName::absolute("gullrock.example").expect("a name");
    let _ = owner_as_meant(text, &zone);
    let (kind, value) = text.split_once(' ').unwrap_or(("TXT", text));
    if let Some(kind) = RecordType::parse(kind) {
        if let Ok(meant) = data_as_meant(value, kind, &zone) {
            let again = data_as_meant(&meant.value.to_string(), kind, &zone);
            assert_eq!(again.ok().map(|again| again.value), Some(meant.value), "{kind} {value}");
        }
    }
});

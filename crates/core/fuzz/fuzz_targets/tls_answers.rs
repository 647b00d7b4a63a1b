//! What a stranger's server sends in the first bytes of TLS, and as a certificate or a request: read without a panic.
#![no_main]

use brightharbor_core::certificate::{TlsVersion, accepts, describe_certificate, greeting, read_der, read_request};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let answer = greeting(data);
    for version in TlsVersion::OLD {
        let _ = accepts(answer, version);
    }
    let _ = read_der(data);
    let _ = describe_certificate(data);
    let _ = read_request(data);
});

//! What a stranger's server sends before TLS and in its first bytes, as a certificate or a request, as a list of revoked certificates
//! or an OCSP answer, and as the time to come back: read without a panic.
#![no_main]

use brightharbor_core::acme::Response;
use brightharbor_core::certificate::{
    StartTls, TlsVersion, accepts, describe_certificate, good_term, greeting, judge_list, judge_ocsp, ocsp_question,
    read_chain, read_der, read_request,
};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let answer = greeting(data);
    for version in TlsVersion::OLD {
        let _ = accepts(answer, version);
    }
    for protocol in StartTls::ALL {
        (0..3).for_each(|sent| drop(protocol.next(sent, data)));
    }
    let _ = read_der(data);
    let _ = describe_certificate(data);
    let _ = read_request(data);
    let now = "2026-11-28T06:30:00Z".parse().expect("a time");
    let chain = |pem: &[u8]| read_chain(pem).expect("a certificate").remove(0);
    let leaf = chain(include_bytes!("../../src/certificate/ocsp_answers/leaf.pem"));
    let issuer = chain(include_bytes!("../../src/certificate/ocsp_answers/ca.pem"));
    let _ = judge_list(data, "http://ca.example/list", &leaf, &issuer, now);
    let _ = judge_ocsp(data, &leaf, &issuer, now);
    let _ = good_term(data, &leaf, &issuer, now);
    if let Ok(strange) = read_der(data) {
        let _ = ocsp_question(&strange, &issuer);
        let _ = judge_ocsp(include_bytes!("../../src/certificate/ocsp_answers/good.der"), &leaf, &strange, now);
    }
    if let Ok(text) = std::str::from_utf8(data) {
        let response = Response {
            status: 429,
            location: None,
            nonce: None,
            retry_after: Some(text.to_string()),
            alternates: Vec::new(),
            next: None,
            body: Vec::new(),
        };
        let _ = response.retry_after(now);
    }
});

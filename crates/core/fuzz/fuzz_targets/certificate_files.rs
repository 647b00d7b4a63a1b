//! Files from a seller that anybody may have written: recognised, put in order or refused, without a panic.
#![no_main]

use brightharbor_core::certificate::{
    Demanding, Piece, assemble, describe_certificate, describe_request, greeting, pieces, read_chain,
};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let _ = greeting(data);
    let _ = read_chain(data);
    let _ = Demanding::of(&String::from_utf8_lossy(data), |_| None);
    let _ = (describe_certificate(data), describe_request(data));
    let Ok(found) = pieces(data, Some("quay")) else { return };
    let certificates: Vec<_> = found
        .into_iter()
        .filter_map(|piece| match piece {
            Piece::Certificate(facts) => Some(*facts),
            _ => None,
        })
        .collect();
    if let Some(first) = certificates.first() {
        let key = first.public_key.clone();
        let _ = assemble(certificates, &key);
    }
});

//! A saved walk that anybody may have written: read and judged without a panic, in bounded time.
#![no_main]

use brightharbor_core::delegation::SavedWalk;
use brightharbor_core::delegation::rules::{Expected, judge};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let Ok(text) = std::str::from_utf8(data) else { return };
    if let Ok(saved) = SavedWalk::read(text) {
        let picture = saved.picture();
        let _ = judge(&picture, &Expected::default());
    }
});

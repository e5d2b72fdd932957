//! The text of a spec: any text is answered, and every mistake lies in it.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    if let Ok(text) = std::str::from_utf8(data) {
        let parsed = cavrith_core::spec::parse(text);
        for place in parsed.mistakes.iter().flat_map(|mistake| &mistake.places) {
            assert!(place.span.start <= text.len() && place.span.end <= text.len());
        }
    }
});

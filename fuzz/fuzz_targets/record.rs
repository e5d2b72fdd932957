//! A record that somebody gives, and what a step may send: requests, and questions for names.
#![no_main]

use cavrith_core::record::packages::Package;
use cavrith_core::record::{Record, Request};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let text = String::from_utf8_lossy(data);
    if let Ok(record) = Record::parse(&text) {
        assert_eq!(record.to_text(), text);
        for request in record.answers.keys() {
            assert_eq!(record.nearest(request), Some(request));
        }
    }
    let _ = Package::of_address(&text);
    // Whatever is asked for, its record is read as it was written.
    let request = Request::new("GET", &text, [("accept", &*text)], None);
    assert!(!request.url.contains('@') || request.url.split("://").count() != 2 || !request.host().contains('@'));
    let _ = cavrith_recorder::names::answer(data);
    let _ = cavrith_recorder::requests_in(data);
});

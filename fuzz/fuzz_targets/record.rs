//! A record that somebody gives, what a step may send (requests, and questions for names), and what it may leave in
//! its layer.
#![no_main]

use cavrith_core::contents::installed::Description;
use cavrith_core::path::RootPath;
use cavrith_core::record::packages::Package;
use cavrith_core::record::{Record, Request};
use cavrith_recorder::git_index;
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
    let _ = cavrith_recorder::names::answer(data, "cavrith");
    let _ = cavrith_recorder::requests_in(data);
    // What a step made is tidied once and for all.
    if let Some(plain) = git_index::without_notes(data) {
        assert_eq!(git_index::without_notes(&plain), None);
    }
    let path = RootPath::from_plain(b"code/node_modules/tides/package.json").unwrap();
    for description in [Description::Npm, Description::Python, Description::Crate, Description::Gem, Description::Composer] {
        for installed in description.read(&path, &text) {
            assert!(!installed.package.name.is_empty());
        }
    }
});

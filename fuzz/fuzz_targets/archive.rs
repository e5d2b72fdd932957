//! What a mirror answers: a signed release, an index, and the choice from it.
#![no_main]

use cavrith_core::debian::index::{Index, IndexReader};
use cavrith_core::debian::release::Release;
use cavrith_core::debian::solve::{Request, solve};
use cavrith_core::debian::{apt, parse_alternative};
use cavrith_sources::signature::Keyring;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let text = String::from_utf8_lossy(data);
    let _ = Release::parse(&text);
    let _ = apt::parse_lines(&text);
    let _ = apt::parse_stanzas(&text);
    let mut keyring = Keyring::default();
    let _ = keyring.add(data);
    assert!(Keyring::default().prove(data, 0).is_err(), "nobody is trusted");
    let mut index = Index::default();
    let suite = index.add_suite("tide", false);
    let mut reader = IndexReader::new(&mut index, suite);
    for line in data.split(|byte| *byte == b'\n') {
        if reader.line(line).is_err() {
            return;
        }
    }
    if reader.finish().is_err() || index.candidates().len() > 40 {
        return;
    }
    let wishes: Vec<_> = index.candidates().iter().take(2).map(|one| parse_alternative(&one.name)).collect();
    let kept = Default::default();
    let request = Request { index: &index, wishes: &wishes, recommended: true, kept: &kept, architecture: "amd64" };
    let first = solve(request);
    assert_eq!(first, solve(request), "the same index, the same answer");
    if let Ok(chosen) = first {
        let names: std::collections::BTreeSet<_> = chosen.iter().map(|id| &index.get(*id).name).collect();
        assert_eq!(names.len(), chosen.len(), "one version of each");
        assert!(wishes.iter().all(|wish| names.iter().any(|name| ***name == *wish.name)), "every wish is met");
    }
});

//! A tar archive in any compression, laid into a layer as a base would be.
#![no_main]

use cavrith_core::path::RootPath;
use cavrith_sources::{compression, tarball};
use cavrith_store::owners::Ownership;
use cavrith_store::writer::{LayerWriter, Links};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let Ok(dir) = tempfile::tempdir_in("/dev/shm") else { return };
    let laying = tarball::Laying { strip: 0, place: RootPath::root(), rights: tarball::Rights::AsGiven };
    let Ok(mut writer) = LayerWriter::new(dir.path().to_owned(), 0, Links::Follow, Ownership::Recorded) else { return };
    if let Ok(stream) = compression::unpack(data, data.len() as u64) {
        let _ = tarball::unpack(stream, "fuzzed", &laying, &mut writer);
    }
    // Nothing may ever lie beside the root.
    for entry in std::fs::read_dir(dir.path()).into_iter().flatten().flatten() {
        assert!(entry.file_name() == "root" || entry.file_name() == "file");
    }
});

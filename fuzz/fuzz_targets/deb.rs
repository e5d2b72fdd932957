//! A package: ar, control and data archives.
#![no_main]

use cavrith_sources::deb;
use cavrith_store::owners::Ownership;
use cavrith_store::writer::{LayerWriter, Links};
use libfuzzer_sys::fuzz_target;

fn checked(dir: &std::path::Path, data: &[u8]) -> Result<cavrith_sources::checked::Checked, cavrith_sources::SourceError> {
    let from = dir.join("file");
    let _ = std::fs::write(&from, data);
    let digest = cavrith_core::digest::Sha256Digest::of(data);
    cavrith_sources::checked::check_own(&from, "fuzzed", data.len() as u64, digest)
}

fuzz_target!(|data: &[u8]| {
    let Ok(dir) = tempfile::tempdir_in("/dev/shm") else { return };
    let Ok(mut writer) = LayerWriter::new(dir.path().to_owned(), 0, Links::Follow, Ownership::Recorded) else { return };
    let Ok(mut checked) = checked(dir.path(), data) else { return };
    let _ = deb::read_control(&mut checked);
    let _ = deb::unpack(&mut checked, &mut writer);
    // Nothing may ever lie beside the root.
    for entry in std::fs::read_dir(dir.path()).into_iter().flatten().flatten() {
        assert!(entry.file_name() == "root" || entry.file_name() == "file");
    }
});

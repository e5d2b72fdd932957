//! What a registry or a layout answers: documents, and a layer over another one.
#![no_main]

use std::sync::Arc;

use cavrith_core::oci::Reference;
use cavrith_core::tree::Tree;
use cavrith_sources::oci::{self, Document};
use cavrith_store::owners::Ownership;
use cavrith_store::writer::{LayerWriter, Links};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    if let Ok(reference) = Reference::parse(&String::from_utf8_lossy(data)) {
        assert_eq!(Reference::parse(&reference.to_string()), Ok(reference));
    }
    if let Ok(Document::Index(index)) = oci::parse(data) {
        let _ = oci::choose(&index, None, "linux/amd64");
    }
    let _ = oci::read_config(data, "linux/amd64");
    let Ok(dir) = tempfile::tempdir_in("/dev/shm") else { return };
    let from = dir.path().join("file");
    let _ = std::fs::write(&from, data);
    let digest = cavrith_core::digest::Sha256Digest::of(data);
    let mut beneath = Arc::new(Tree::with_root());
    // The same layer twice: the second time there is something beneath to replace and to take away.
    for number in 0..2 {
        let place = dir.path().join(number.to_string());
        let _ = std::fs::create_dir(&place);
        let Ok(mut writer) = LayerWriter::new(place, 0, Links::Replace, Ownership::Recorded) else { return };
        writer.set_lower(beneath.clone());
        let checked = cavrith_sources::checked::check_own(&from, "fuzzed", data.len() as u64, digest);
        let Ok(mut checked) = checked else { return };
        if oci::unpack_layer(&mut checked, &mut writer).is_err() {
            return;
        }
        let mut merged = Tree::clone(&beneath);
        merged.overlay(writer.tree());
        beneath = Arc::new(merged);
    }
    for entry in std::fs::read_dir(dir.path()).into_iter().flatten().flatten() {
        assert!(["0", "1", "file"].iter().any(|name| entry.file_name() == *name), "nothing lies beside the layers");
    }
});

//! A parcel that somebody gives: opened, its project laid into a folder, its layers asked for.
#![no_main]

use cavrith_core::link::Link;
use cavrith_core::secrets;
use cavrith_exchange::parcel::OpenParcel;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let _ = secrets::in_text(data);
    let text = String::from_utf8_lossy(data);
    if let Some(Ok(link)) = Link::parse(&format!("cavrith:join?{text}")) {
        assert_eq!(Link::parse(&link.to_string()), Some(Ok(link)));
    }
    let Ok(dir) = tempfile::tempdir_in("/dev/shm") else { return };
    let file = dir.path().join("file");
    let _ = std::fs::write(&file, data);
    let Ok(parcel) = OpenParcel::open(&file) else { return };
    let to = dir.path().join("to");
    // Work in progress would start git, which is not what is tried here.
    if !matches!(parcel.work(), Ok(None)) {
        return;
    }
    let _ = parcel.is_in(&to);
    let _ = parcel.lay(&to, &dir.path().join("aside"), &dir.path().join("history"));
    for (digest, _) in parcel.blobs() {
        let _ = parcel.document_of(digest);
    }
    for entry in std::fs::read_dir(dir.path()).into_iter().flatten().flatten() {
        assert!(["file", "to", "aside"].iter().any(|name| entry.file_name() == *name), "nothing lies beside the folder");
    }
});

//! A backup of a kept folder, or files on their way out of a workspace: nothing of it leads out of the directory that
//! it is unpacked into.
#![no_main]

use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;

use cavrith_sandbox::ground::{self, Ground, Most};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let dir = tempfile::tempdir().unwrap();
    let (into, outside) = (dir.path().join("into"), dir.path().join("outside"));
    fs::create_dir(&into).unwrap();
    fs::create_dir(&outside).unwrap();
    fs::write(outside.join("tide"), "low").unwrap();
    // Links of a fixed name lead out, as somebody inside may have left them.
    std::os::unix::fs::symlink(&outside, into.join("a")).unwrap();
    let place = |path: &Path| Ok(path.to_owned());
    let most = Most { bytes: 1 << 20, entries: 1000 };
    let _ = ground::unpack(&mut tar::Archive::new(data), &Ground::open(&into).unwrap(), false, most, place);
    assert_eq!(fs::read_to_string(outside.join("tide")).unwrap(), "low");
    assert_eq!(fs::read_dir(&outside).unwrap().count(), 1);
    assert_eq!(fs::read_dir(dir.path()).unwrap().count(), 2);
    let mut open = vec![into];
    while let Some(dir) = open.pop() {
        for entry in fs::read_dir(&dir).into_iter().flatten().flatten() {
            let meta = entry.metadata().unwrap();
            assert!(!meta.is_file() || meta.permissions().mode() & 0o6000 == 0);
            if meta.is_dir() {
                open.push(entry.path());
            }
        }
    }
});

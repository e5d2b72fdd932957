use std::collections::BTreeMap;
use std::fs;
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};

use cavrith_core::oci::parcel::PROJECT;
use cavrith_exchange::parcel::encryption::Recipients;
use cavrith_exchange::parcel::{NewParcel, OpenParcel};
use cavrith_store::Store;
use proptest::prelude::*;

/// A file of a project: its bytes and whether it is a program, or what a link leads to.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Thing {
    File(Vec<u8>, bool),
    Link(Vec<u8>),
}

fn any_project() -> impl Strategy<Value = BTreeMap<PathBuf, Thing>> {
    // Names of directories and of files keep apart, so that no file lies where a directory is.
    let directory = prop::collection::vec("[A-Z][a-z ~]{0,7}", 0..3);
    let file = prop_oneof![4 => "[a-z.][a-z0-9 _-]{0,20}", 1 => "\\PC{1,12}"];
    let thing = prop_oneof![
        3 => (prop::collection::vec(any::<u8>(), 0..3000), any::<bool>()).prop_map(|(bytes, run)| Thing::File(bytes, run)),
        1 => prop::collection::vec(1..=255_u8, 1..90).prop_map(Thing::Link),
    ];
    prop::collection::vec((directory, file, thing), 0..16).prop_map(|entries| {
        let path = |directory: Vec<String>, file: String| -> PathBuf {
            directory.into_iter().chain([format!("f{}", file.replace(['/', '\0'], "_"))]).collect()
        };
        entries.into_iter().map(|(directory, file, thing)| (path(directory, file), thing)).collect()
    })
}

fn write(top: &Path, project: &BTreeMap<PathBuf, Thing>) {
    for (path, thing) in project {
        let at = top.join(path);
        fs::create_dir_all(at.parent().unwrap()).unwrap();
        match thing {
            Thing::File(bytes, run) => {
                fs::write(&at, bytes).unwrap();
                fs::set_permissions(&at, fs::Permissions::from_mode(if *run { 0o755 } else { 0o644 })).unwrap();
            }
            Thing::Link(target) => std::os::unix::fs::symlink(std::ffi::OsStr::from_bytes(target), &at).unwrap(),
        }
    }
}

fn read(top: &Path, inner: &Path, into: &mut BTreeMap<PathBuf, Thing>) {
    for entry in fs::read_dir(top.join(inner)).unwrap() {
        let entry = entry.unwrap();
        let (path, meta) = (inner.join(entry.file_name()), entry.path().symlink_metadata().unwrap());
        if meta.is_dir() {
            read(top, &path, into);
        } else if meta.is_symlink() {
            let target = fs::read_link(entry.path()).unwrap();
            into.insert(path, Thing::Link(target.as_os_str().as_bytes().to_vec()));
        } else {
            let run = meta.permissions().mode() & 0o100 != 0;
            into.insert(path, Thing::File(fs::read(entry.path()).unwrap(), run));
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 48, ..ProptestConfig::default() })]
    #[test]
    fn what_is_packed_is_laid_out_again_and_always_packs_to_the_same(project in any_project()) {
        let dir = tempfile::tempdir().unwrap();
        let from = dir.path().join("from");
        fs::create_dir(&from).unwrap();
        let mut project = project;
        project.insert("cavrith.toml".into(), Thing::File(b"spec = 1\n".to_vec(), false));
        write(&from, &project);
        let store = Store::open(&dir.path().join("store")).unwrap();
        let staging = store.stage("parcel").unwrap();
        let files: Vec<_> = project.keys().cloned().collect();
        let packed = |name: &str| {
            let mut parcel = NewParcel::new(&store, &staging);
            parcel.files(PROJECT, &from, &files).unwrap();
            parcel.annotate("cavrith.variant", "main");
            parcel.write(&Recipients::default(), &dir.path().join(name)).unwrap();
            dir.path().join(name)
        };
        let (first, second) = (packed("first"), packed("second"));
        prop_assert_eq!(fs::read(&first).unwrap(), fs::read(&second).unwrap());
        let parcel = OpenParcel::open(&first).unwrap();
        let to = dir.path().join("to");
        parcel.lay(&to, &dir.path().join("aside"), &dir.path().join("history")).unwrap();
        let mut found = BTreeMap::new();
        read(&to, Path::new(""), &mut found);
        prop_assert_eq!(found, project);
    }

    #[test]
    fn any_bytes_are_answered_as_a_parcel(bytes in prop::collection::vec(any::<u8>(), 0..2000)) {
        let dir = tempfile::tempdir().unwrap();
        let file = dir.path().join("file");
        fs::write(&file, bytes).unwrap();
        prop_assert!(OpenParcel::open(&file).is_err());
    }
}

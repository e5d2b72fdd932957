//! Folders: how they are mounted, backed up, restored, looked into. Run as root, who may give files to anybody.

use std::collections::BTreeMap;
use std::fs;
use std::io::Write as _;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _, lchown, symlink};
use std::path::{Path, PathBuf};

use cavrith_core::arrangement::{FolderPart, Place as FilesPlace};
use cavrith_keeper::mounts::{FolderRoots, folders};
use cavrith_keeper::place::Place;
use cavrith_sandbox::Identity;
use cavrith_workspace::kept::{back_up, list, measure, restore};
use proptest::prelude::*;
use tar::{EntryType, Header};

fn place(dir: &Path) -> Place {
    Place {
        name: "timetable".to_owned(),
        project: dir.join("project"),
        named: false,
        called: false,
        dir: dir.join("workspaces/timetable-1"),
        kept: dir.join("kept/timetable-1"),
    }
}

/// Everything beneath a directory: kind, rights, owner, and content or target, by path.
fn picture(root: &Path) -> BTreeMap<PathBuf, (String, u32, u32, Vec<u8>)> {
    let (mut all, mut open) = (BTreeMap::new(), vec![root.to_owned()]);
    while let Some(path) = open.pop() {
        let meta = path.symlink_metadata().unwrap();
        let (kind, content) = match meta.file_type() {
            kind if kind.is_dir() => {
                open.extend(fs::read_dir(&path).unwrap().map(|entry| entry.unwrap().path()));
                ("directory", Vec::new())
            }
            kind if kind.is_symlink() => ("link", fs::read_link(&path).unwrap().into_os_string().into_encoded_bytes()),
            _ => ("file", fs::read(&path).unwrap()),
        };
        // A link's own rights mean nothing.
        let mode = if kind == "link" { 0 } else { meta.mode() & 0o7777 };
        all.insert(
            path.strip_prefix(root).unwrap().to_owned(),
            (format!("{kind} {mode:o}"), meta.uid(), meta.gid(), content),
        );
    }
    all
}

/// All that lies beside the kept folders, but for the note of whose they are.
fn in_kept(place: &Place) -> Vec<String> {
    let names = fs::read_dir(&place.kept).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap());
    let mut names: Vec<_> = names.filter(|name| name != ".project" && name != ".folder").collect();
    names.sort();
    names
}

#[test]
fn a_backup_restored_is_the_same_folder_with_owners_and_rights() {
    let dir = tempfile::tempdir().unwrap();
    let place = place(dir.path());
    let folder = place.kept.join("database");
    fs::create_dir_all(folder.join("files/base")).unwrap();
    fs::write(folder.join("files/base/1"), vec![7; 100_000]).unwrap();
    fs::write(folder.join("files/lock"), "").unwrap();
    symlink("base/1", folder.join("files/first")).unwrap();
    fs::set_permissions(folder.join("files"), fs::Permissions::from_mode(0o700)).unwrap();
    fs::set_permissions(folder.join("files/base"), fs::Permissions::from_mode(0o555)).unwrap();
    for (path, owner) in [("files", 105), ("files/base", 105), ("files/base/1", 105), ("files/first", 1000)] {
        lchown(folder.join(path), Some(owner), Some(owner + 1)).unwrap();
    }
    let before = picture(&folder);
    let file = dir.path().join("database.tar.zst");
    let bytes = back_up(&folder, &file, Identity::Root).unwrap();
    assert_eq!(bytes, file.metadata().unwrap().len());
    assert!(!dir.path().join("database.tar.zst.part").exists());
    // The same folder makes the same bytes.
    let again = dir.path().join("again.tar.zst");
    back_up(&folder, &again, Identity::Root).unwrap();
    assert_eq!(fs::read(&file).unwrap(), fs::read(&again).unwrap());
    // Over what was changed since, and to where nothing is.
    fs::write(folder.join("files/later"), "gone after this").unwrap();
    for name in ["database", "copy"] {
        assert_eq!(restore(&place, name, &file, Identity::Root).unwrap(), before.len() as u64);
        assert_eq!(picture(&place.kept.join(name)), before);
    }
    assert_eq!(in_kept(&place), ["copy", "database"]);
    assert_eq!(place.kept_folders().len(), 2);
    let measured = measure(&place, "database", &folder);
    assert_eq!((measured.entries, measured.bytes), (before.len() as u64 - 1, 100_000));
}

#[test]
fn a_folder_is_looked_into_and_no_link_is_followed_out_of_it() {
    let dir = tempfile::tempdir().unwrap();
    let folder = dir.path().join("folder");
    fs::create_dir_all(folder.join("sub")).unwrap();
    fs::write(folder.join("sub/b"), "12345").unwrap();
    fs::write(folder.join("sub/a"), "1").unwrap();
    fs::write(dir.path().join("secret"), "").unwrap();
    symlink("..", folder.join("out")).unwrap();
    let listed = list(&folder, Path::new("sub")).unwrap();
    assert_eq!(
        listed.iter().map(|one| (one.path.as_str(), one.kind, one.bytes)).collect::<Vec<_>>(),
        [("sub/a", "file", 1), ("sub/b", "file", 5)]
    );
    assert_eq!(list(&folder, Path::new("./")).unwrap().len(), 2);
    for inner in ["out", "..", "sub/../..", "/", "nowhere"] {
        assert!(list(&folder, Path::new(inner)).is_err(), "{inner}");
    }
}

/// A backup with entries as they are written here, whatever a careful writer would say.
fn backup(file: &Path, entries: &[(&str, EntryType, &str)]) {
    let mut archive = tar::Builder::new(Vec::new());
    for (name, kind, link) in entries {
        let mut header = Header::new_gnu();
        header.as_mut_bytes()[..name.len()].copy_from_slice(name.as_bytes());
        header.as_mut_bytes()[157..157 + link.len()].copy_from_slice(link.as_bytes());
        header.set_entry_type(*kind);
        header.set_mode(0o755);
        header.set_uid(0);
        header.set_gid(0);
        let content: &[u8] = if *kind == EntryType::Regular { b"high" } else { b"" };
        header.set_size(content.len() as u64);
        header.set_cksum();
        archive.append(&header, content).unwrap();
    }
    fs::write(file, zstd::encode_all(archive.into_inner().unwrap().as_slice(), 3).unwrap()).unwrap();
}

#[test]
fn a_hostile_or_broken_backup_leaves_the_folder_as_it_was() {
    use EntryType::{Block, Directory, Link, Regular, Symlink};
    let dir = tempfile::tempdir().unwrap();
    let place = place(dir.path());
    let (folder, outside) = (place.kept.join("database"), dir.path().join("outside"));
    fs::create_dir_all(&folder).unwrap();
    fs::create_dir(&outside).unwrap();
    fs::write(folder.join("rows"), "four").unwrap();
    fs::write(outside.join("tide"), "low").unwrap();
    let away = outside.to_str().unwrap();
    let tide = format!("{away}/tide");
    let before = (picture(&folder), picture(&outside));
    let file = dir.path().join("hostile");
    let root = ("folder", Directory, "");
    for (number, entries) in [
        &[][..],
        &[("other", Directory, "")],
        &[root, ("folder/x", Symlink, away), ("folder/x", Directory, "")],
        &[root, ("folder/x", Symlink, away), ("folder/x/", Directory, "")],
        &[root, ("folder/x", Symlink, &tide), ("folder/x", Directory, "")],
        &[root, ("../tide", Regular, "")],
        &[root, ("folder/../../outside/tide", Regular, "")],
        &[root, ("/folder/tide", Regular, "")],
        &[root, ("folder/in", Symlink, away), ("folder/in/tide", Regular, "")],
        &[root, ("folder/in", Symlink, away), ("folder/in/new", Directory, "")],
        &[("folder", Symlink, away), ("folder/tide", Regular, "")],
        &[root, ("folder/tide", Link, &tide)],
        &[root, ("folder/disk", Block, "")],
    ]
    .into_iter()
    .enumerate()
    {
        backup(&file, entries);
        let error = restore(&place, "database", &file, Identity::Root).unwrap_err().to_string();
        assert!(error.contains("restore the backup"), "archive {number}: {error}");
        assert_eq!((picture(&folder), picture(&outside)), before, "archive {number}");
        assert_eq!(in_kept(&place), ["database"], "archive {number}");
    }
    // Cut off anywhere, or no archive at all.
    backup(&file, &[root, ("folder/rows", Regular, "")]);
    let whole = fs::read(&file).unwrap();
    for length in [0, 1, whole.len() / 2, whole.len() - 1] {
        fs::write(&file, &whole[..length]).unwrap();
        assert!(restore(&place, "database", &file, Identity::Root).is_err(), "{length} bytes");
        assert_eq!(picture(&folder), before.0, "{length} bytes");
    }
    fs::write(&file, &whole).unwrap();
    assert_eq!(restore(&place, "database", &file, Identity::Root).unwrap(), 2);
    assert_eq!(fs::read_to_string(folder.join("rows")).unwrap(), "high");
}

fn live(outside: &str, inside: &str, except: &[&str]) -> FolderPart {
    let except = except.iter().map(|path| (*path).to_owned()).collect();
    FolderPart { inside: inside.to_owned(), place: FilesPlace::Live(outside.to_owned()), except }
}

#[test]
fn folders_lie_in_each_other_with_places_that_are_their_owners() {
    let dir = tempfile::tempdir().unwrap();
    let (project, kept, except) = (dir.path().join("project"), dir.path().join("kept"), dir.path().join("except"));
    fs::create_dir_all(project.join("pages")).unwrap();
    lchown(&project, Some(1234), Some(1235)).unwrap();
    let folder_roots = FolderRoots { project: &project, except: &except, kept: &kept };
    let data = FolderPart {
        inside: "/code/var/data".to_owned(),
        place: FilesPlace::Kept("data".to_owned(), Some("postgres".to_owned())),
        except: Vec::new(),
    };
    let parts = [live(".", "/code", &["out/deep", "out!deep", "out"]), live("pages", "/code/site", &[]), data];
    let mounts = folders(&parts, folder_roots).unwrap();
    let inside: Vec<_> = mounts.iter().map(|mount| mount.inside.to_str().unwrap()).collect();
    assert_eq!(inside, ["/code", "/code/out/deep", "/code/out!deep", "/code/out", "/code/site", "/code/var/data"]);
    // Whatever two places are called, what stays inside is not shared between them.
    let mut own: Vec<_> = mounts[1..4].iter().map(|mount| mount.outside.clone()).collect();
    own.sort();
    own.dedup();
    assert_eq!(own.len(), 3);
    assert!(own.iter().all(|path| path.parent() == Some(&except) && path.is_dir()));
    for made in ["out", "out/deep", "out!deep", "site", "var", "var/data"] {
        let meta = project.join(made).metadata().unwrap();
        assert_eq!((meta.uid(), meta.gid()), (1234, 1235), "{made}");
    }
    let last = &mounts[5];
    assert!(last.kept && last.new && last.owner.as_deref() == Some("postgres"));
    // Once there is something in it, it has its owner.
    fs::write(kept.join("data/rows"), "").unwrap();
    assert!(!folders(&parts, folder_roots).unwrap()[5].new);
    // A link in the way is not followed, and a folder that has ended is named.
    fs::remove_dir(project.join("site")).unwrap();
    symlink("/", project.join("site")).unwrap();
    assert!(folders(&parts, folder_roots).unwrap_err().to_string().contains("site"));
    assert!(folders(&[live("nowhere", "/x", &[])], folder_roots).unwrap_err().to_string().contains("nowhere"));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// Whatever files a folder has, its backup brings all of them back.
    #[test]
    fn any_folder_comes_back(
        files in proptest::collection::btree_map("[a-z é%!]{1,12}(/[a-z]{1,110}){0,2}", proptest::collection::vec(any::<u8>(), 0..200), 0..12),
        modes in proptest::collection::vec(0o400u32..0o1000, 12),
    ) {
        let dir = tempfile::tempdir().unwrap();
        let place = place(dir.path());
        let folder = place.kept.join("any");
        fs::create_dir_all(&folder).unwrap();
        for ((name, content), mode) in files.iter().zip(&modes) {
            let path = folder.join(name);
            // A name may be that of a directory which another one needs; then the other one is there.
            if fs::create_dir_all(path.parent().unwrap()).is_ok()
                && let Ok(mut file) = fs::File::create(&path)
            {
                file.write_all(content).unwrap();
                file.set_permissions(fs::Permissions::from_mode(*mode)).unwrap();
            }
        }
        let before = picture(&folder);
        let file = dir.path().join("backup");
        back_up(&folder, &file, Identity::Root).unwrap();
        restore(&place, "any", &file, Identity::Root).unwrap();
        prop_assert_eq!(picture(&folder), before);
    }
}

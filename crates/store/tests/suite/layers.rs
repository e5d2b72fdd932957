//! Layers on disk: what is written is what is measured, whatever else changes is noticed, and nothing half done counts.

use std::fs;
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _, symlink};
use std::path::{Path, PathBuf};

use cavrith_core::digest::{ContentDigest, ImageKey, LayerKey, TreeDigest};
use cavrith_core::path::RootPath;
use cavrith_core::seal::SealedLayer;
use cavrith_core::tree::diff::changes;
use cavrith_core::tree::{Entry, Kind, Meta, Tree};
use cavrith_store::owners::{Owners, Ownership};
use cavrith_store::records::ImageRecord;
use cavrith_store::walk::{self, Over};
use cavrith_store::writer::{LayerWriter, Links, StagedLayer};
use cavrith_store::{Store, StoreError};
use proptest::prelude::*;

const EPOCH: u64 = 1_600_000_000;

fn path(text: &str) -> RootPath {
    RootPath::from_archive(text.as_bytes()).unwrap()
}

/// An owner that this process can give: any for root, its own otherwise.
fn owner(number: u32) -> u32 {
    let own = fs::metadata("/proc/self").unwrap().uid();
    if own == 0 { number } else { own }
}

struct Shop {
    dir: tempfile::TempDir,
    store: Store,
}

impl Shop {
    fn new() -> Self {
        let dir = tempfile::tempdir().unwrap();
        let store = Store::open(&dir.path().join("store")).unwrap();
        Self { dir, store }
    }

    fn place(&self, name: &str) -> PathBuf {
        let place = self.dir.path().join(name);
        fs::create_dir(&place).unwrap();
        place
    }

    fn writer(&self, name: &str) -> LayerWriter {
        LayerWriter::new(self.place(name), EPOCH, Links::Refuse, Ownership::Real).unwrap()
    }

    fn layer(&self, name: &str, content: &str) -> StagedLayer {
        let mut writer = self.writer(name);
        writer.file(&path("srv/page"), Meta::owned(0o640, owner(7), owner(8)), &mut content.as_bytes()).unwrap();
        writer.finish().unwrap()
    }
}

/// Overlayfs's own way to mark a deletion: a character device 0:0, which everybody may make.
fn whiteout(at: &Path) {
    let mode = rustix::fs::Mode::from_raw_mode(0o000);
    rustix::fs::mknodat(rustix::fs::CWD, at, rustix::fs::FileType::CharacterDevice, mode, 0).unwrap();
}

fn attribute(at: &Path, name: &str, value: &[u8]) {
    rustix::fs::setxattr(at, name, value, rustix::fs::XattrFlags::empty()).unwrap();
}

#[test]
fn a_kept_layer_is_found_by_its_key_and_measured_as_it_was_written() {
    let shop = Shop::new();
    let key = LayerKey::from_bytes([1; 32]);
    assert_eq!(shop.store.layer_for(&key), None);
    let (digest, tree) = shop.store.keep(shop.layer("a", "low tide"), false).unwrap();
    shop.store.remember(&key, &digest).unwrap();
    assert_eq!(shop.store.layer_for(&key), Some(digest));
    assert_eq!(shop.store.layer_tree(&digest).unwrap(), tree);
    let measured = walk::measure(&shop.store.layer_root(&digest), Owners::Real).unwrap();
    assert_eq!(measured.tree.digest(), digest);
    assert_eq!(measured.strange, []);
}

#[test]
fn the_same_layer_made_twice_is_kept_once_and_replaced_only_on_wish() {
    let shop = Shop::new();
    let (digest, _) = shop.store.keep(shop.layer("a", "low tide"), false).unwrap();
    let page = shop.store.layer_root(&digest).join("srv/page");
    fs::write(&page, "spoilt").unwrap();
    assert_eq!(shop.store.keep(shop.layer("b", "low tide"), false).unwrap().0, digest);
    assert_eq!(fs::read_to_string(&page).unwrap(), "spoilt");
    shop.store.keep(shop.layer("c", "low tide"), true).unwrap();
    assert_eq!(fs::read_to_string(&page).unwrap(), "low tide");
}

#[test]
fn damage_is_noticed_wherever_it_is() {
    let shop = Shop::new();
    let (digest, tree) = shop.store.keep(shop.layer("a", "low tide"), false).unwrap();
    let root = shop.store.layer_root(&digest);
    let page = root.join("srv/page");
    let found = || {
        let measured = walk::measure(&root, Owners::Real).unwrap();
        (changes(&tree, &measured.tree).len(), measured.strange.len())
    };
    assert_eq!(found(), (0, 0));
    fs::write(&page, "low tidE").unwrap();
    assert_eq!(found(), (1, 1));
    fs::write(&page, "low tide").unwrap();
    assert_eq!(found(), (1, 1));
    fs::set_permissions(&page, fs::Permissions::from_mode(0o644)).unwrap();
    assert_eq!(found().0, 1);
    fs::write(root.join("more"), "").unwrap();
    assert_eq!(found().0, 2);
    let manifest = root.parent().unwrap().join("tree");
    let mut bytes = fs::read(&manifest).unwrap();
    bytes[30] ^= 1;
    fs::write(&manifest, bytes).unwrap();
    assert!(matches!(shop.store.layer_tree(&digest), Err(StoreError::DamagedManifest { .. })));
}

#[test]
fn records_that_are_damaged_or_name_a_missing_layer_count_as_none() {
    let shop = Shop::new();
    let (digest, tree) = shop.store.keep(shop.layer("a", "low tide"), false).unwrap();
    let key = ImageKey::from_bytes([2; 32]);
    let record = ImageRecord {
        record: 1,
        image: tree.image_fingerprint(),
        tree: digest,
        layers: vec![SealedLayer { name: "base".to_owned(), tree: digest }],
        shell: "/bin/sh".to_owned(),
        probes: Vec::new(),
        entries: 3,
        bytes: 8,
    };
    assert_eq!(shop.store.image_for(&key).unwrap(), None);
    shop.store.remember_image(&key, &record).unwrap();
    assert_eq!(shop.store.image_for(&key).unwrap(), Some(record.clone()));
    let file = shop.store.root().join("images").join(key.to_string());
    let text = fs::read_to_string(&file).unwrap();
    fs::write(&file, &text[..text.len() / 2]).unwrap();
    assert_eq!(shop.store.image_for(&key).unwrap(), None);
    shop.store.remember_image(&key, &record).unwrap();
    fs::remove_dir_all(shop.store.layer_root(&digest)).unwrap();
    assert_eq!(shop.store.image_for(&key).unwrap(), None);
    let layer_key = LayerKey::from_bytes([3; 32]);
    shop.store.remember(&layer_key, &TreeDigest::from_bytes([4; 32])).unwrap();
    assert_eq!(shop.store.layer_for(&layer_key), None);
}

#[test]
fn a_file_is_written_whole_and_leaves_nothing_beside_it() {
    let dir = tempfile::tempdir().unwrap();
    let file = dir.path().join("cavrith.lock");
    for text in ["one", "two, which is longer", ""] {
        cavrith_store::atomic::write(&file, text.as_bytes()).unwrap();
        assert_eq!(fs::read_to_string(&file).unwrap(), text);
        assert_eq!(fs::read_dir(dir.path()).unwrap().count(), 1);
    }
    let error = cavrith_store::atomic::write(&dir.path().join("none/file"), b"x").unwrap_err();
    assert!(error.to_string().contains("none/file"), "{error}");
}

#[test]
fn an_upper_directory_is_read_back_with_deletions_and_replacements_and_without_overlayfs_s_own_marks() {
    let shop = Shop::new();
    let overlay_scratch = shop.place("bench");
    let root = overlay_scratch.join("root");
    fs::create_dir_all(root.join("etc/new")).unwrap();
    fs::write(root.join("etc/file"), "x").unwrap();
    fs::hard_link(root.join("etc/file"), root.join("etc/other")).unwrap();
    symlink("file", root.join("etc/link")).unwrap();
    whiteout(&root.join("etc/gone"));
    whiteout(&root.join("etc/gone too"));
    attribute(&root.join("etc/new"), "user.overlay.opaque", b"y");
    attribute(&root.join("etc"), "user.overlay.impure", b"y");
    attribute(&root.join("etc/file"), "user.overlay.origin", b"zzz");
    attribute(&root.join("etc/file"), "user.note", b"kept");
    drop(std::os::unix::net::UnixListener::bind(root.join("etc/socket")).unwrap());
    // What the directory that was made anew hides, and what was only brought up from beneath.
    let mut lower = Tree::with_root();
    for (at, text) in
        [("etc/new/old", "x"), ("etc/new/inner/older", "x"), ("etc/same", "same"), ("etc/touched", "same")]
    {
        let kind = Kind::File { size: text.len() as u64, content: ContentDigest::of(text.as_bytes()), links: None };
        lower.ensure_parents(&path(at));
        let (uid, gid) = (owner(0), owner(0));
        lower.entries.insert(path(at), Entry { kind, meta: Meta { uid, gid, ..Meta::root(0o644) } });
    }
    lower.stamp(EPOCH - 7);
    let then = std::time::SystemTime::UNIX_EPOCH + std::time::Duration::from_secs(EPOCH - 7);
    for name in ["same", "touched"] {
        fs::write(root.join("etc").join(name), "same").unwrap();
    }
    fs::File::open(root.join("etc/same")).unwrap().set_modified(then).unwrap();
    let staged = walk::capture(overlay_scratch, Over::Overlay, EPOCH, Owners::Real, &lower).unwrap();
    let tree = staged.tree().clone();
    let kind = |at: &str| tree.get(&path(at)).map(|entry| entry.kind.clone());
    assert_eq!(kind("etc/gone"), Some(Kind::Whiteout));
    assert_eq!(kind("etc/gone too"), Some(Kind::Whiteout));
    // It hides by deletions, as what was copied does.
    assert_eq!(kind("etc/new"), Some(Kind::DIRECTORY));
    assert_eq!([kind("etc/new/old"), kind("etc/new/inner")], [Some(Kind::Whiteout), Some(Kind::Whiteout)]);
    assert_eq!(kind("etc/same"), None);
    assert_eq!(tree.get(&path("etc/touched")).unwrap().meta.time, EPOCH);
    assert_eq!(kind("etc"), Some(Kind::DIRECTORY));
    assert_eq!(kind("etc/socket"), None);
    let names = |at: &str| tree.get(&path(at)).unwrap().meta.xattrs.keys().cloned().collect::<Vec<_>>();
    assert_eq!(names("etc/file"), [b"user.note".to_vec()]);
    assert!(names("etc").is_empty() && names("etc/new").is_empty());
    assert!(matches!(kind("etc/file"), Some(Kind::File { size: 1, links: Some(_), .. })));
    assert_eq!(kind("etc/file"), kind("etc/other"));
    let (digest, _) = shop.store.keep(staged, false).unwrap();
    let measured = walk::measure(&shop.store.layer_root(&digest), Owners::Real).unwrap();
    assert_eq!((measured.tree.digest(), measured.strange), (digest, Vec::new()));
}

#[test]
fn owners_rights_and_times_do_not_depend_on_the_umask() {
    let shop = Shop::new();
    let before = rustix::process::umask(rustix::fs::Mode::from_raw_mode(0o077));
    let mut writer = shop.writer("a");
    writer.directory(&path("d"), Meta::owned(0o2775, owner(5), owner(6))).unwrap();
    writer.file(&path("d/sub/f"), Meta::owned(0o4755, owner(1000), owner(1000)), &mut &b"x"[..]).unwrap();
    writer.fifo(&path("d/p"), Meta::root(0o622)).ok();
    let staged = writer.finish().unwrap();
    rustix::process::umask(before);
    let (digest, _) = shop.store.keep(staged, false).unwrap();
    let root = shop.store.layer_root(&digest);
    for (name, mode) in [("d", 0o2775), ("d/sub", 0o755), ("d/sub/f", 0o4755), ("", 0o755)] {
        let meta = fs::metadata(root.join(name)).unwrap();
        assert_eq!((meta.mode() & 0o7777, meta.mtime()), (mode, EPOCH as i64), "{name:?}");
    }
    assert_eq!(fs::metadata(root.join("d/sub/f")).unwrap().uid(), owner(1000));
}

#[test]
fn what_cannot_be_in_a_layer_is_refused() {
    let shop = Shop::new();
    let mut writer = shop.writer("a");
    writer.file(&path("f"), Meta::root(0o644), &mut &b"x"[..]).unwrap();
    writer.symlink(&path("l"), Meta::root(0o777), b"f").unwrap();
    let mut marked = Meta::root(0o644);
    marked.xattrs.insert(b"trusted.overlay.opaque".to_vec(), b"y".to_vec());
    for (what, refused) in [
        ("twice", writer.file(&path("f"), Meta::root(0o644), &mut &b"y"[..]).map(drop)),
        ("not a directory", writer.file(&path("f/g"), Meta::root(0o644), &mut &b"y"[..]).map(drop)),
        ("through a link", writer.file(&path("l/g"), Meta::root(0o644), &mut &b"y"[..]).map(drop)),
        ("twice", writer.directory(&path("f"), Meta::root(0o755))),
        ("65535", writer.directory(&path("d"), Meta::owned(0o755, 65_536, 0))),
        ("attribute", writer.file(&path("m"), marked, &mut &b"y"[..]).map(drop)),
        ("no usable target", writer.symlink(&path("e"), Meta::root(0o777), b"")),
        ("hard link", writer.hard_link(&path("h"), &path("none"))),
        ("hard link", writer.hard_link(&path("h"), &path("l"))),
    ] {
        let error = refused.unwrap_err().to_string();
        assert!(error.contains(what), "{what}: {error}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]
    #[test]
    fn any_entries_come_back_as_they_were_written(
        entries in proptest::collection::btree_map(
            proptest::collection::vec(proptest::collection::vec(any::<u8>(), 1..6), 1..4),
            (0u8..4, proptest::collection::vec(any::<u8>(), 0..2000), 0u16..0o7777),
            0..25,
        )
    ) {
        let shop = Shop::new();
        let mut writer = shop.writer("a");
        for (names, (kind, content, mode)) in entries {
            let Ok(path) = RootPath::from_archive(&names.join(&b'/')) else { continue };
            let meta = Meta::owned(mode | 0o700, owner(u32::from(mode)), owner(0));
            // Names that meet others are refused, which is what should happen.
            let _ = match kind {
                0 => writer.directory(&path, meta),
                1 => writer.symlink(&path, meta, &content.iter().map(|byte| byte | 1).take(200).collect::<Vec<_>>()),
                2 => writer.fifo(&path, meta),
                _ => writer.file(&path, meta, &mut content.as_slice()).map(drop),
            };
        }
        let (digest, tree) = shop.store.keep(writer.finish().unwrap(), false).unwrap();
        let measured = walk::measure(&shop.store.layer_root(&digest), Owners::Real).unwrap();
        prop_assert_eq!(changes(&tree, &measured.tree), []);
        prop_assert_eq!(measured.tree.digest(), digest);
        prop_assert_eq!(Tree::merged([&tree]).digest(), digest);
        prop_assert!(shop.dir.path().as_os_str().as_bytes().len() < 100);
    }
}

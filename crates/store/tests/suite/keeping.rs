//! What the store keeps beside layers: files from the web, leases, and owners that no file can have.

use std::fs;
use std::io::Write as _;
use std::time::Duration;

use cavrith_core::digest::{LayerKey, Sha256Digest};
use cavrith_core::path::RootPath;
use cavrith_core::tree::{Kind, Meta, Tree};
use cavrith_store::Store;
use cavrith_store::collecting::{Bounds, ItemKind};
use cavrith_store::owners::{self, Owners, Ownership};
use cavrith_store::walk::{self, Over};
use cavrith_store::writer::{LayerWriter, Links};

const EPOCH: u64 = 1_600_000_000;
const ALL: Bounds = Bounds { unused_for: Duration::ZERO, down_to: Some(0) };

fn path(text: &str) -> RootPath {
    RootPath::from_archive(text.as_bytes()).unwrap()
}

fn store() -> (tempfile::TempDir, Store) {
    let dir = tempfile::tempdir().unwrap();
    let store = Store::open(&dir.path().join("store")).unwrap();
    (dir, store)
}

#[test]
fn a_file_gets_its_name_when_it_is_whole_and_what_arrived_stays_for_the_next_time() {
    let (_dir, store) = store();
    let digest = Sha256Digest::of(b"high tide");
    let mut partial = store.partial("https://files.brindle.example/t").unwrap();
    partial.file().write_all(b"high").unwrap();
    drop(partial);
    assert_eq!(store.blob(&digest), None);
    let mut partial = store.partial("https://files.brindle.example/t").unwrap();
    assert_eq!(fs::read(partial.path()).unwrap(), b"high");
    std::io::Seek::seek(partial.file(), std::io::SeekFrom::End(0)).unwrap();
    partial.file().write_all(b" tide").unwrap();
    let place = store.keep_blob(&partial, &digest).unwrap();
    assert_eq!(
        (store.blob(&digest), fs::read(place).unwrap()),
        (Some(store.blob(&digest).unwrap()), b"high tide".to_vec())
    );
    // The next one who asks for the address begins with nothing.
    drop(partial);
    assert_eq!(store.partial("https://files.brindle.example/t").unwrap().file().metadata().unwrap().len(), 0);
    store.remember_index("https://depot.brindle.example/", b"depot = 1\n").unwrap();
    assert_eq!(store.seen_index("https://depot.brindle.example/").unwrap(), b"depot = 1\n");
    assert_eq!(store.seen_index("https://other.brindle.example/"), None);
}

#[test]
fn a_leased_layer_stays_and_a_free_one_goes_with_its_records() {
    let (_dir, mut store) = store();
    let staging = store.stage("one").unwrap();
    store.lease(&staging);
    let made = |name: &str| {
        let mut writer = LayerWriter::new(staging.new_dir().unwrap(), EPOCH, Links::Refuse, Ownership::Real).unwrap();
        writer.file(&path("srv/page"), Meta::root(0o644), &mut name.as_bytes()).unwrap();
        store.keep(writer.finish().unwrap(), false).unwrap().0
    };
    let layer = made("leased");
    let key = LayerKey::from_bytes([3; 32]);
    store.remember(&key, &layer).unwrap();
    let collector = Store::open(store.root()).unwrap();
    let other = collector.stage("two").unwrap();
    assert_eq!(collector.collect(&other, ALL, false).unwrap(), []);
    let held = collector.held().unwrap();
    assert!(held[0].in_use && held[0].what == ItemKind::Layer(layer));
    // The lease ends with the command, however it ends.
    drop(staging);
    let gone = collector.collect(&other, ALL, true).unwrap();
    assert!(gone.len() == 1 && collector.has_layer(&layer));
    collector.collect(&other, ALL, false).unwrap();
    assert!(!collector.has_layer(&layer));
    assert_eq!(collector.layer_for(&key), None);
    assert_eq!(fs::read_dir(store.root().join("keys")).unwrap().count(), 0);
    assert_eq!(fs::read_dir(other.dir()).unwrap().count(), 1, "only the lock of the staging itself");
}

#[test]
fn recorded_owners_are_read_back_as_they_were_given() {
    let (_dir, mut store) = store();
    store.set_ownership(Ownership::Recorded);
    let staging = store.stage("one").unwrap();
    let mut writer = LayerWriter::new(staging.new_dir().unwrap(), EPOCH, Links::Refuse, store.ownership()).unwrap();
    writer.directory(&path("srv"), Meta::owned(0o755, 7, 8)).unwrap();
    writer.file(&path("srv/page"), Meta::owned(0o600, 1000, 33), &mut &b"x"[..]).unwrap();
    writer.file(&path("srv/plain"), Meta::root(0o644), &mut &b"y"[..]).unwrap();
    writer.symlink(&path("srv/link"), Meta::owned(0o777, 5, 6), b"page").unwrap();
    writer.fifo(&path("srv/pipe"), Meta::owned(0o600, 9, 9)).unwrap();
    let (layer, tree) = store.keep(writer.finish().unwrap(), false).unwrap();
    let measured = store.measure(&layer, &tree).unwrap();
    assert_eq!(measured.tree.digest(), layer);
    // What a hostile archive says of the attribute is not an owner, and not kept.
    let place = store.layer_root(&layer);
    assert_eq!(owners::read(&place.join("srv/page")).unwrap(), Some((1000, 33)));
    assert_eq!(owners::read(&place.join("srv/plain")).unwrap(), None);
    assert!(tree.entries.values().all(|entry| entry.meta.xattrs.is_empty()));
    let damaged = b"nobody";
    rustix::fs::setxattr(place.join("srv/page"), "user.cavrith.owner", damaged, rustix::fs::XattrFlags::empty())
        .unwrap();
    assert!(store.measure(&layer, &tree).is_err());
}

#[test]
fn a_copy_that_was_changed_becomes_the_layer_that_an_overlay_would_make() {
    let (dir, _store) = store();
    let mut lower = Tree::with_root();
    let overlay_scratch = dir.path().join("bench");
    let merged = overlay_scratch.join("merged");
    fs::create_dir_all(merged.join("srv/gone")).unwrap();
    for name in ["srv/same", "srv/changed", "srv/removed", "srv/gone/deep", "srv/touched"] {
        fs::write(merged.join(name), "as it was").unwrap();
    }
    // The copy carries the layers' one time stamp, as copying leaves it.
    let stamp = |root: &std::path::Path| {
        for entry in ["srv/gone/deep", "srv/gone", "srv/same", "srv/changed", "srv/removed", "srv/touched", "srv", ""] {
            let file = fs::File::open(root.join(entry)).unwrap();
            file.set_modified(std::time::UNIX_EPOCH + Duration::from_secs(EPOCH)).unwrap();
        }
    };
    stamp(&merged);
    for (at, entry) in walk::measure(&merged, Owners::Real).unwrap().tree.entries {
        lower.entries.insert(at, entry);
    }
    fs::write(merged.join("srv/changed"), "changed").unwrap();
    fs::write(merged.join("srv/touched"), "as it was").unwrap();
    fs::remove_file(merged.join("srv/removed")).unwrap();
    fs::remove_dir_all(merged.join("srv/gone")).unwrap();
    fs::write(merged.join("srv/new"), "new").unwrap();
    let layer = walk::capture(overlay_scratch, Over::Copy, EPOCH, Owners::Real, &lower).unwrap();
    let shown: Vec<_> = layer
        .tree()
        .entries
        .iter()
        .map(|(path, entry)| {
            format!("{path} {}", if entry.kind == Kind::Whiteout { "gone" } else { entry.kind.word() })
        })
        .collect();
    assert_eq!(
        shown,
        [
            "/ directory",
            "/srv directory",
            "/srv/changed file",
            "/srv/gone gone",
            "/srv/new file",
            "/srv/removed gone",
            "/srv/touched file"
        ]
    );
}

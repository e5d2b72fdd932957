use std::collections::BTreeMap;
use std::io::{self, Read};

use cavrith_core::digest::ContentDigest;
use cavrith_core::path::RootPath;
use cavrith_core::tree::{Entry, Kind, LinkGroup, Meta, Tree};
use cavrith_exchange::tar_writer;
use proptest::prelude::*;

/// A tree, and the bytes of its files.
#[derive(Debug, Clone)]
struct Sample {
    tree: Tree,
    bytes: BTreeMap<RootPath, Vec<u8>>,
}

fn any_meta() -> impl Strategy<Value = Meta> {
    let ids = prop_oneof![0..70_000_u32, Just(2_097_151), Just(2_097_152), Just(u32::MAX - 1)];
    let xattrs = prop::collection::btree_map("user\\.[a-z]{1,4}", prop::collection::vec(any::<u8>(), 0..40), 0..3);
    let times = prop_oneof![0..2_000_000_000_u64, Just(0o77_777_777_777), Just(0o100_000_000_000)];
    (0..0o10_000_u16, ids.clone(), ids, times, xattrs).prop_map(|(mode, uid, gid, time, xattrs)| Meta {
        time,
        xattrs: xattrs.into_iter().map(|(name, value)| (name.into_bytes(), value)).collect(),
        ..Meta::owned(mode, uid, gid)
    })
}

/// Names of all lengths and bytes, but none that means something in a layer.
fn any_name() -> impl Strategy<Value = Vec<u8>> {
    let byte = prop_oneof![5 => b'a'..=b'f', 1 => 0x80..=0xff_u8, 1 => Just(b' '), 1 => Just(b'\n')];
    prop_oneof![4 => prop::collection::vec(byte.clone(), 1..6), 1 => prop::collection::vec(byte, 90..130)]
}

#[derive(Debug, Clone)]
enum Thing {
    Directory(bool),
    File(Vec<u8>),
    /// Another name of the file before it.
    Again,
    Link(Vec<u8>),
    Fifo,
    Device(bool, u32, u32),
    Whiteout,
}

fn any_thing() -> impl Strategy<Value = Thing> {
    prop_oneof![
        any::<bool>().prop_map(Thing::Directory),
        prop::collection::vec(any::<u8>(), 0..1500).prop_map(Thing::File),
        Just(Thing::Again),
        prop::collection::vec(1..=255_u8, 1..150).prop_map(Thing::Link),
        Just(Thing::Fifo),
        (any::<bool>(), 0..1000_u32, 0..1000_u32).prop_map(|(block, major, minor)| Thing::Device(block, major, minor)),
        Just(Thing::Whiteout),
    ]
}

fn any_sample() -> impl Strategy<Value = Sample> {
    let entry = (prop::collection::vec(any_name(), 1..4), any_thing(), any_meta());
    prop::collection::vec(entry, 0..24).prop_map(|entries| {
        let mut sample = Sample { tree: Tree::with_root(), bytes: BTreeMap::new() };
        let (mut groups, mut last) = (0, None::<RootPath>);
        for (names, thing, meta) in entries {
            let Ok(path) = RootPath::from_plain(&names.join(&b'/')) else { continue };
            let parents = path.ancestors();
            let blocked = parents.iter().any(|one| sample.tree.get(one).is_some_and(|one| !one.kind.is_directory()));
            if blocked || sample.tree.get(&path).is_some() {
                continue;
            }
            let entry = match thing {
                Thing::Directory(opaque) => Entry { kind: Kind::Directory { opaque }, meta },
                Thing::Link(target) => Entry { kind: Kind::Symlink { target }, meta: Meta { mode: 0o777, ..meta } },
                Thing::Fifo => Entry { kind: Kind::Fifo, meta },
                Thing::Device(true, major, minor) => Entry { kind: Kind::BlockDevice { major, minor }, meta },
                Thing::Device(false, major, minor) => Entry { kind: Kind::CharDevice { major, minor }, meta },
                Thing::Whiteout => Entry { kind: Kind::Whiteout, meta: Meta::owned(0, 0, 0) },
                Thing::File(bytes) => {
                    let content = ContentDigest::of(&bytes);
                    let size = bytes.len() as u64;
                    sample.bytes.insert(path.clone(), bytes);
                    last = Some(path.clone());
                    Entry { kind: Kind::File { size, content, links: None }, meta }
                }
                Thing::Again => {
                    let Some(first) = &last else { continue };
                    let there = sample.tree.entries.get_mut(first).unwrap();
                    let Kind::File { links, .. } = &mut there.kind else { unreachable!() };
                    if links.is_none() {
                        groups += 1;
                        *links = Some(LinkGroup(groups));
                    }
                    let entry = there.clone();
                    sample.bytes.insert(path.clone(), sample.bytes[first].clone());
                    entry
                }
            };
            sample.tree.ensure_parents(&path);
            sample.tree.entries.insert(path, entry);
        }
        sample
    })
}

fn archive(sample: &Sample) -> Vec<u8> {
    let mut out = Vec::new();
    let mut content =
        |path: &RootPath| -> io::Result<Box<dyn Read>> { Ok(Box::new(io::Cursor::new(sample.bytes[path].clone()))) };
    tar_writer::write(&sample.tree, &mut content, &mut out).unwrap();
    out
}

/// What an archive says, as the `tar` crate reads it, as a tree again. `bytes` get the files' contents.
fn read(archive: &[u8]) -> Sample {
    let mut sample = Sample { tree: Tree::default(), bytes: BTreeMap::new() };
    let (mut groups, mut pending) = (0, None::<BTreeMap<Vec<u8>, Vec<u8>>>);
    for entry in tar::Archive::new(archive).entries().unwrap().raw(true) {
        let mut entry = entry.unwrap();
        let kind = entry.header().entry_type();
        let mut body = Vec::new();
        entry.read_to_end(&mut body).unwrap();
        if kind.is_pax_local_extensions() {
            pending = Some(records(&body));
            continue;
        }
        let more = pending.take().unwrap_or_default();
        let number =
            |key: &str| more.get(key.as_bytes()).map(|text| std::str::from_utf8(text).unwrap().parse().unwrap());
        let header = entry.header().clone();
        let name = more.get(b"path".as_slice()).cloned().unwrap_or_else(|| header.path_bytes().to_vec());
        let target = more.get(b"linkpath".as_slice()).cloned();
        let target = target.or_else(|| header.link_name_bytes().map(|name| name.to_vec()));
        let meta = Meta {
            time: number("mtime").unwrap_or_else(|| header.mtime().unwrap()),
            xattrs: more
                .iter()
                .filter_map(|(key, value)| Some((key.strip_prefix(b"SCHILY.xattr.")?.to_vec(), value.clone())))
                .collect(),
            ..Meta::owned(
                header.mode().unwrap() as u16,
                number("uid").unwrap_or_else(|| header.uid().unwrap()) as u32,
                number("gid").unwrap_or_else(|| header.gid().unwrap()) as u32,
            )
        };
        let name = name.strip_prefix(b"./").map_or(name.clone(), <[u8]>::to_vec);
        let name = name.strip_suffix(b"/").map_or(name.clone(), <[u8]>::to_vec);
        let (parent, last) = match name.iter().rposition(|byte| *byte == b'/') {
            Some(slash) => (&name[..slash], &name[slash + 1..]),
            None => (&b""[..], name.as_slice()),
        };
        let path = |bytes: &[u8]| RootPath::from_plain(bytes).unwrap();
        if last == b".wh..wh..opq" {
            sample.tree.entries.get_mut(&path(parent)).unwrap().kind = Kind::Directory { opaque: true };
            continue;
        }
        if let Some(hidden) = last.strip_prefix(b".wh.") {
            let whole = if parent.is_empty() { hidden.to_vec() } else { [parent, b"/", hidden].concat() };
            let entry = Entry { kind: Kind::Whiteout, meta: Meta::owned(0, 0, 0) };
            sample.tree.entries.insert(path(&whole), entry);
            continue;
        }
        let device = || (header.device_major().unwrap().unwrap(), header.device_minor().unwrap().unwrap());
        let kind = match kind {
            tar::EntryType::Directory => Kind::DIRECTORY,
            tar::EntryType::Symlink => Kind::Symlink { target: target.unwrap() },
            tar::EntryType::Fifo => Kind::Fifo,
            tar::EntryType::Char => Kind::CharDevice { major: device().0, minor: device().1 },
            tar::EntryType::Block => Kind::BlockDevice { major: device().0, minor: device().1 },
            tar::EntryType::Link => {
                let first = path(&target.unwrap());
                let there = sample.tree.entries.get_mut(&first).unwrap();
                let Kind::File { links, .. } = &mut there.kind else { panic!("a link to no file") };
                if links.is_none() {
                    groups += 1;
                    *links = Some(LinkGroup(groups));
                }
                let entry = there.clone();
                let bytes = sample.bytes[&first].clone();
                sample.bytes.insert(path(&name), bytes);
                sample.tree.entries.insert(path(&name), entry);
                continue;
            }
            _ => {
                let content = ContentDigest::of(&body);
                let size = body.len() as u64;
                assert_eq!(size, header.entry_size().unwrap());
                sample.bytes.insert(path(&name), body);
                Kind::File { size, content, links: None }
            }
        };
        sample.tree.entries.insert(path(&name), Entry { kind, meta });
    }
    sample
}

fn records(mut body: &[u8]) -> BTreeMap<Vec<u8>, Vec<u8>> {
    let mut found = BTreeMap::new();
    while let Some(space) = body.iter().position(|byte| *byte == b' ') {
        let length: usize = std::str::from_utf8(&body[..space]).unwrap().parse().unwrap();
        let record = &body[space + 1..length - 1];
        assert_eq!(body[length - 1], b'\n');
        let equals = record.iter().position(|byte| *byte == b'=').unwrap();
        found.insert(record[..equals].to_vec(), record[equals + 1..].to_vec());
        body = &body[length..];
    }
    found
}

proptest! {
    /// Whatever a tree holds: the archive says all of it, also where ustar's fields do not reach.
    #[test]
    fn an_archive_says_all_that_its_tree_does(sample in any_sample()) {
        let written = archive(&sample);
        prop_assert_eq!(written.len() % 512, 0);
        let back = read(&written);
        prop_assert_eq!(cavrith_core::tree::diff::changes(&sample.tree, &back.tree), []);
        prop_assert_eq!(sample.tree.digest(), back.tree.digest());
        prop_assert!(back.bytes == sample.bytes);
        prop_assert!(archive(&sample) == written);
    }
}

#[test]
fn a_file_that_is_longer_or_shorter_than_its_tree_says_is_refused() {
    let path = RootPath::from_plain(b"tide").unwrap();
    for bytes in [b"six".to_vec(), b"seven".to_vec()] {
        let mut tree = Tree::with_root();
        let kind = Kind::File { size: 4, content: ContentDigest::of(b"five"), links: None };
        tree.entries.insert(path.clone(), Entry { kind, meta: Meta::root(0o644) });
        let mut content = |_: &RootPath| -> io::Result<Box<dyn Read>> { Ok(Box::new(io::Cursor::new(bytes.clone()))) };
        let error = tar_writer::write(&tree, &mut content, &mut Vec::new()).unwrap_err();
        assert!(error.to_string().contains("/tide has another length than its layer says"), "{error}");
    }
}
